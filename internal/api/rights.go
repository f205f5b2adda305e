package api

import (
	"net/http"
	"strings"

	"inkpost.example/inkpost/internal/core/team"
)

// reach is whose sites a call concerns.
type reach int

const (
	everything reach = iota // all sites: somebody who is limited to some may not
	oneSite                 // the site that its path names
	seen                    // what the caller sees: the engine leaves the rest out
	noSite                  // none
)

func (r reach) words() string {
	return map[reach]string{everything: "all sites", oneSite: "the site that it names", seen: "the sites that are seen",
		noSite: "no site"}[r]
}

// rule is what a call takes. The zero need is to read where the call is a GET, and to edit otherwise.
type rule struct {
	reach reach
	need  team.Right
}

// rules are those of calls that differ from what the method and the path say: a call that names a site in its path concerns that one, and
// any other concerns all of them. So a call that nobody has thought of is closed to whoever is limited.
var rules = map[string]rule{
	"GET /people":                   {noSite, team.Read},
	"GET /people/:name":             {noSite, team.Read},
	"PATCH /people/:name":           {everything, team.Administer},
	"DELETE /people/:name":          {everything, team.Administer},
	"GET /invitations":              {everything, team.Administer},
	"POST /invitations":             {everything, team.Administer},
	"DELETE /invitations/:id":       {everything, team.Administer},
	"GET /audit":                    {seen, team.Read},
	"GET /record":                   {seen, ""},
	"POST /record":                  {seen, ""},
	"GET /removed":                  {seen, ""},
	"GET /checkup":                  {everything, team.Administer},
	"GET /servers":                  {everything, team.Administer},
	"GET /site-filters":             {noSite, ""},
	"POST /site-filters":            {noSite, team.Read},
	"DELETE /site-filters/:id":      {noSite, team.Read},
	"POST /removed/:id/restoration": {seen, ""},
	"GET /settings":                 {everything, team.Administer},
	"PUT /settings":                 {everything, team.Administer},

	"GET /keys":               {seen, ""},
	"POST /keys":              {noSite, team.Read},
	"DELETE /keys/:id":        {seen, team.Read},
	"PUT /keys/:id/allowance": {seen, ""},
	"POST /keys/:id/rotation": {seen, ""},
	"POST /calendar/keys":     {noSite, team.Read},

	"GET /overview":                 {seen, ""},
	"GET /events":                   {seen, ""},
	"GET /moves":                    {seen, ""},
	"GET /sites":                    {seen, ""},
	"POST /sites":                   {seen, ""},
	"GET /commissioning":            {seen, ""},
	"GET /calendar":                 {seen, ""},
	"GET /faults":                   {seen, ""},
	"GET /faults/:id":               {seen, ""},
	"GET /faults/times":             {seen, ""},
	"PUT /faults/:id/taking":        {seen, ""},
	"POST /faults/:id/notes":        {seen, ""},
	"PUT /faults/:id/judgement":     {seen, ""},
	"POST /faults/:id/planned-work": {seen, ""},
	"GET /planned-work":             {seen, ""},
	"POST /planned-work":            {seen, ""},
	"DELETE /planned-work/:id":      {seen, ""},

	"GET /hostnames":               {seen, ""},
	"POST /hostnames":              {seen, ""},
	"GET /hostnames/:name":         {seen, ""},
	"PATCH /hostnames/:name":       {seen, ""},
	"DELETE /hostnames/:name":      {seen, ""},
	"PUT /hostnames/:name/hold":    {seen, ""},
	"DELETE /hostnames/:name/hold": {seen, ""},
	"GET /aliases":                 {seen, ""},
	"POST /aliases":                {seen, ""},
	"GET /aliases/:name":           {seen, ""},
	"DELETE /aliases/:name":        {seen, ""},
	"GET /redirects":               {seen, ""},
	"POST /redirects":              {seen, ""},
	"GET /redirects/:name":         {seen, ""},
	"PATCH /redirects/:name":       {seen, ""},
	"DELETE /redirects/:name":      {seen, ""},

	"GET /zones":                              {noSite, ""},
	"GET /zones/:apex":                        {noSite, ""},
	"GET /names/check":                        {noSite, ""},
	"GET /kinds":                              {noSite, ""},
	"GET /kits":                               {noSite, ""},
	"GET /kits/:name":                         {noSite, ""},
	"GET /kits/:name/file":                    {noSite, ""},
	"GET /causes":                             {noSite, ""},
	"GET /causes/:cause":                      {noSite, ""},
	"GET /vantages":                           {noSite, ""},
	"GET /push-key":                           {noSite, ""},
	"GET /push-browsers":                      {noSite, ""},
	"POST /push-browsers":                     {noSite, team.Read},
	"DELETE /push-browsers/:id":               {noSite, team.Read},
	"POST /zones":                             {everything, team.Administer},
	"PATCH /zones/:apex":                      {everything, team.Administer},
	"DELETE /zones/:apex":                     {everything, team.Administer},
	"POST /zones/:apex/file":                  {everything, team.Administer},
	"POST /vantages":                          {everything, team.Administer},
	"DELETE /vantages/:name":                  {everything, team.Administer},
	"POST /hooks":                             {everything, team.Administer},
	"DELETE /hooks/:name":                     {everything, team.Administer},
	"POST /signing-keys":                      {everything, team.Administer},
	"PUT /signing-keys/:name/allowance":       {everything, team.Administer},
	"DELETE /signing-keys/:name":              {everything, team.Administer},
	"GET /notice-rules":                       {seen, ""},
	"POST /notice-rules":                      {seen, team.Read},
	"PUT /notice-rules/:id":                   {seen, team.Read},
	"DELETE /notice-rules/:id":                {seen, team.Read},
	"GET /addressees":                         {seen, ""},
	"PUT /addressees/:name":                   {seen, team.Read},
	"POST /sites/:code/lan":                   {oneSite, team.Probe},
	"POST /sites/:code/proofs":                {oneSite, team.Probe},
	"POST /sites/:code/reviews":               {oneSite, team.Probe},
	"POST /sites/:code/services/:name/probes": {oneSite, team.Probe},
}

// rule returns what the call takes.
func (r route) rule() rule {
	of, there := rules[r.method+" "+strings.TrimPrefix(r.path, base)]
	if !there && strings.Contains(r.path, "/sites/:code") {
		of.reach = oneSite
	}
	if of.need == "" {
		of.need = team.Edit
		if r.method == http.MethodGet {
			of.need = team.Read
		}
	}
	return of
}
