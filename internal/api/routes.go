package api

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

// route is one endpoint: what serves it, who may call it, and what its description says.
type route struct {
	method, path string
	summary      string
	who          who
	in, out      any // documents, for the description; nil if there is none
	status       int // of success
	query        []param
	large        bool // takes a file
	reads        bool // changes nothing, whatever its method
	always       bool // served even while there is no engine
	announces    bool // changes something although it may be a GET
	stream       bool // ends with the key that it was begun with
	slow         bool // waits for others: devices, agents, vantage points, name servers
	traced       bool // somebody signs in by it, although it is a GET
	limited      bool // few tries a second from one address: it takes a password or a code
	serve        func(c *echo.Context, p principal) error
}

// param is a query parameter, and what may stand in it.
type param struct {
	name, about string
	kind        paramKind
}

type paramKind int

const (
	wordParam    paramKind = iota
	numberParam            // an integer
	flagParam              // true or false
	momentParam            // a time as RFC 3339 writes it
	formatParam            // json or csv
	addressParam           // an IP address
)

var fetchParams = []param{{"ipv4", "the IPv4 address; the socket's if neither family is given", addressParam},
	{"ipv6", "the IPv6 address", addressParam},
	{"name", "hostnames that must follow the key's link; may be given again, or several with commas", wordParam},
	{"except", "hostnames of the link that stay where they are; may be given again, or several with commas", wordParam}}

// who may call a route.
type who int

const (
	anyone      who = iota
	signedIn        // a person's session, even with a one-time password
	person          // a person, by session or key
	agentOnly       // an agent, by key
	vantageOnly     // a vantage point, by key
	memberOnly      // another server on the database
)

const base = "/api/v1"

// routes lists every endpoint of the API.
func (a *api) routes() []route {
	list := []route{
		{method: "GET", path: "/healthz", summary: "Whether the service runs", always: true, out: contract.Ready{}, serve: a.healthy},
		{method: "GET", path: "/readyz", summary: "Whether the service can do all of its work", always: true, out: contract.Ready{},
			serve: a.ready},
		{method: "GET", path: "/metrics", summary: "Counters, as OpenMetrics", always: true, serve: a.counters},
		{method: "GET", path: base + "/openapi.json", summary: "This description", always: true, serve: a.description},

		{method: "POST", path: base + "/session", summary: "Sign in", in: contract.SignIn{}, out: contract.Session{}, limited: true,
			serve: a.signIn},
		{method: "GET", path: base + "/session", summary: "Who is signed in", who: signedIn, out: contract.Session{}, serve: a.session},
		{method: "DELETE", path: base + "/session", summary: "Sign out", who: signedIn, status: http.StatusNoContent, serve: a.signOut},
		{method: "PUT", path: base + "/session/password", summary: "Replace one's own password", who: signedIn,
			in: contract.NewPassword{}, out: contract.Session{}, serve: a.choosePassword},
		{method: "GET", path: base + "/keys", summary: "List access keys", who: person, out: []contract.Key{}, serve: a.keys},
		{method: "POST", path: base + "/keys", summary: "Make a key of one's own", who: person, in: contract.KeyInput{},
			out: contract.Key{}, status: http.StatusCreated, serve: a.addKey},
		{method: "PUT", path: base + "/keys/:id/allowance",
			summary: "Set the prefixes in which a link's key may announce addresses that are not its connection's own", who: person,
			in: contract.Allowance{}, status: http.StatusNoContent, serve: a.allowKey},
		{method: "DELETE", path: base + "/keys/:id", summary: "Revoke a key", who: person, status: http.StatusNoContent,
			serve: a.revokeKey},

		{method: "GET", path: base + "/overview", summary: "What needs me now", who: person, out: contract.Overview{}, serve: a.overview},
		{method: "GET", path: base + "/events", summary: "Follow events (text/event-stream of CloudEvents)", who: person,
			stream: true, query: []param{{"site", "only events of this site code", wordParam}}, serve: a.events},
		{method: "GET", path: base + "/moves", summary: "List moves, the newest first", who: person, out: []contract.Move{},
			query: moveParams, serve: a.moves},
		{method: "GET", path: base + "/zones", summary: "List zones", who: person, out: []names.Zone{}, serve: a.zones},
		{method: "POST", path: base + "/zones", summary: "Add a zone", who: person, in: contract.ZoneInput{}, out: names.Zone{},
			status: http.StatusCreated, serve: a.addZone},
		{method: "GET", path: base + "/zones/:apex", summary: "Show a zone", who: person, out: names.Zone{}, serve: a.zone},
		{method: "PATCH", path: base + "/zones/:apex", summary: "Edit a zone", who: person, in: contract.ZoneInput{},
			out: names.Zone{}, serve: a.editZone},
		{method: "DELETE", path: base + "/zones/:apex", summary: "Remove a zone", who: person, status: http.StatusNoContent,
			serve: a.removeZone},
		{method: "GET", path: base + "/hostnames", summary: "List hostnames", who: person, out: []contract.Hostname{},
			query: []param{{"site", "only this site code", wordParam}, {"zone", "only this zone", wordParam},
				{"search", "words that a name, its addresses or its site's code has", wordParam},
				{"limit", "at most so many; how many there are in all stands in Inkpost-Total", numberParam},
				{"offset", "so many are passed over first", numberParam}}, serve: a.hostnames},
		{method: "POST", path: base + "/hostnames", summary: "Add a hostname", who: person, in: contract.HostnameInput{},
			out: contract.Hostname{}, status: http.StatusCreated, serve: a.addHostname},
		{method: "GET", path: base + "/hostnames/:name", summary: "Show a hostname", who: person, out: contract.Hostname{},
			serve: a.hostname},
		{method: "PATCH", path: base + "/hostnames/:name", summary: "Edit a hostname", who: person, in: contract.HostnameInput{},
			out: contract.Hostname{}, serve: a.editHostname},
		{method: "DELETE", path: base + "/hostnames/:name", summary: "Remove a hostname", who: person, status: http.StatusNoContent,
			serve: a.removeHostname},

		{method: "GET", path: base + "/zones/:apex/records", summary: "List the records put into a zone beside hostnames and aliases",
			who: person, out: []contract.ZoneRecord{}, serve: a.zoneRecords},
		{method: "POST", path: base + "/zones/:apex/records", summary: "Put a record into a zone", who: person,
			in: contract.RecordInput{}, out: contract.ZoneRecord{}, status: http.StatusCreated, serve: a.addZoneRecord},
		{method: "DELETE", path: base + "/zones/:apex/records/:id", summary: "Remove a record from a zone", who: person,
			status: http.StatusNoContent, serve: a.removeZoneRecord},
		{method: "GET", path: base + "/zones/:apex/file", summary: "The zone as a zone file (text/dns)", who: person, serve: a.zoneFile},
		{method: "POST", path: base + "/zones/:apex/file",
			summary: "Take a zone file (text/dns) over into a zone, or make the zone from it", who: person,
			out: contract.ZoneImport{}, large: true,
			query: []param{{"replace", "true removes records that the file does not have", flagParam},
				{"replace_servers", "true takes SOA and servers of a zone that is on record from the file", flagParam},
				{"dry_run", "true says what would change and changes nothing", flagParam}}, serve: a.importZone},
		{method: "GET", path: base + "/zones/:apex/differences",
			summary: "What a push would change at a remote zone's primary; nothing is pushed", slow: true, who: person,
			out: []names.Difference{}, serve: a.zoneDifferences},
		{method: "GET", path: base + "/zones/:apex/pushes", summary: "How each name of a remote zone stands at its primary",
			who: person, out: []contract.Push{}, serve: a.zonePushes},
		{method: "POST", path: base + "/zones/:apex/pushes",
			summary: "Push all names of a remote zone now; the first call starts pushing", who: person,
			out: []contract.Push{}, status: http.StatusAccepted, serve: a.pushZone},
		{method: "GET", path: base + "/names/check", summary: "Whether a name is legal, in a zone on record, and free", who: person,
			out: contract.NameCheck{}, query: []param{{"name", "the name, in any script", wordParam}}, serve: a.checkName},
		{method: "GET", path: base + "/sites/:code/name-suggestion", summary: "A first name for a site, by the zone's template",
			who: person, out: contract.NameCheck{}, query: []param{{"zone", "in this zone", wordParam}}, serve: a.suggestName},
		{method: "PUT", path: base + "/hostnames/:name/hold",
			summary: "Hold a hostname at the address it has, whatever its link does", who: person, out: contract.Hostname{},
			serve: a.holdHostname},
		{method: "DELETE", path: base + "/hostnames/:name/hold", summary: "Let a hostname follow its link again", who: person,
			out: contract.Hostname{}, serve: a.releaseHostname},
		{method: "GET", path: base + "/redirects", summary: "List redirect names", who: person, out: []contract.Redirect{},
			serve: a.redirects},
		{method: "POST", path: base + "/redirects", summary: "Add a name that sends a browser on", who: person,
			in: contract.RedirectInput{}, out: contract.Redirect{}, status: http.StatusCreated, serve: a.addRedirect},
		{method: "GET", path: base + "/redirects/:name", summary: "Show a redirect name", who: person, out: contract.Redirect{},
			serve: a.redirect},
		{method: "PATCH", path: base + "/redirects/:name", summary: "Edit a redirect name", who: person, in: contract.RedirectInput{},
			out: contract.Redirect{}, serve: a.editRedirect},
		{method: "DELETE", path: base + "/redirects/:name", summary: "Remove a redirect name", who: person,
			status: http.StatusNoContent, serve: a.removeRedirect},
		{method: "GET", path: base + "/aliases", summary: "List aliases", who: person, out: []contract.Alias{}, serve: a.aliases},
		{method: "POST", path: base + "/aliases", summary: "Add an alias for a hostname", who: person,
			in: contract.AliasInput{}, out: contract.Alias{}, status: http.StatusCreated, serve: a.addAlias},
		{method: "GET", path: base + "/aliases/:name", summary: "Show an alias", who: person, out: contract.Alias{}, serve: a.alias},
		{method: "DELETE", path: base + "/aliases/:name", summary: "Remove an alias", who: person, status: http.StatusNoContent,
			serve: a.removeAlias},
		{method: "GET", path: base + "/signing-keys", summary: "List TSIG keys", who: person, out: []contract.SigningKey{},
			serve: a.signingKeys},
		{method: "POST", path: base + "/signing-keys", summary: "Make a TSIG key", who: person, in: contract.SigningKeyInput{},
			out: contract.SigningKey{}, status: http.StatusCreated, serve: a.addSigningKey},
		{method: "PUT", path: base + "/signing-keys/:name/allowance",
			summary: "Set the prefixes in which updates with a TSIG key may set addresses that are not their sender's own",
			who:     person, in: contract.Allowance{}, status: http.StatusNoContent, serve: a.allowSigningKey},
		{method: "DELETE", path: base + "/signing-keys/:name", summary: "Remove a TSIG key", who: person,
			status: http.StatusNoContent, serve: a.removeSigningKey},

		{method: "GET", path: base + "/sites",
			summary: "List sites, those in need first; " + contract.TotalHeader + " says how many there are", who: person,
			out: []contract.SiteSummary{}, query: []param{
				{"search", "words to be found in code, name, note, tags, addresses, hostnames, or devices' names and MACs", wordParam},
				{"tag", "only those with this tag", wordParam}, {"need", "only those with this need: now, soon, unknown or nothing",
					wordParam},
				{"sort", "need, code, name or address; need if left out", wordParam},
				{"limit", "1 to 1000; all if left out", numberParam}, {"offset", "how many to pass over", numberParam}}, serve: a.sites},
		{method: "POST", path: base + "/sites", summary: "Add a site", who: person, in: contract.SiteInput{}, out: contract.Site{},
			status: http.StatusCreated, serve: a.addSite},
		{method: "GET", path: base + "/sites/:code", summary: "Show a site with its paths", who: person, out: contract.Site{},
			serve: a.site},
		{method: "PATCH", path: base + "/sites/:code", summary: "Edit a site", who: person, in: contract.SiteInput{},
			out: contract.Site{}, serve: a.editSite},
		{method: "DELETE", path: base + "/sites/:code", summary: "Remove a site with everything on its record", who: person,
			status: http.StatusNoContent, serve: a.removeSite},
		{method: "GET", path: base + "/sites/:code/links", summary: "List a site's links", who: person, out: []contract.Link{},
			serve: a.links},
		{method: "POST", path: base + "/sites/:code/links", summary: "Add a link", who: person, in: contract.LinkInput{},
			out: contract.Link{}, status: http.StatusCreated, serve: a.addLink},
		{method: "GET", path: base + "/sites/:code/links/:label", summary: "Show a link", who: person, out: contract.Link{}, serve: a.link},
		{method: "PATCH", path: base + "/sites/:code/links/:label", summary: "Edit a link", who: person, in: contract.LinkInput{},
			out: contract.Link{}, serve: a.editLink},
		{method: "DELETE", path: base + "/sites/:code/links/:label", summary: "Remove a link", who: person,
			status: http.StatusNoContent, serve: a.removeLink},
		{method: "POST", path: base + "/sites/:code/links/:label/invitations", summary: "Make a one-time code for an agent",
			who: person, in: contract.InvitationInput{}, out: contract.Invitation{}, status: http.StatusCreated, serve: a.invite},
		{method: "GET", path: base + "/sites/:code/devices", summary: "List a site's devices", who: person, out: []site.Device{},
			serve: a.devices},
		{method: "POST", path: base + "/sites/:code/devices", summary: "Add a device", who: person, in: contract.DeviceInput{},
			out: site.Device{}, status: http.StatusCreated, serve: a.addDevice},
		{method: "GET", path: base + "/sites/:code/devices/:name", summary: "Show a device", who: person, out: site.Device{},
			serve: a.device},
		{method: "PATCH", path: base + "/sites/:code/devices/:name", summary: "Edit a device", who: person,
			in: contract.DeviceInput{}, out: site.Device{}, serve: a.editDevice},
		{method: "DELETE", path: base + "/sites/:code/devices/:name", summary: "Remove a device", who: person,
			status: http.StatusNoContent, serve: a.removeDevice},
		{method: "GET", path: base + "/sites/:code/services", summary: "List a site's services", who: person,
			out: []contract.Service{}, serve: a.services},
		{method: "POST", path: base + "/sites/:code/services", summary: "Add a service", who: person, in: contract.ServiceInput{},
			out: contract.Service{}, status: http.StatusCreated, serve: a.addService},
		{method: "GET", path: base + "/sites/:code/services/:name", summary: "Show a service", who: person, out: contract.Service{},
			serve: a.service},
		{method: "PATCH", path: base + "/sites/:code/services/:name", summary: "Edit a service", who: person,
			in: contract.ServiceInput{}, out: contract.Service{}, serve: a.editService},
		{method: "DELETE", path: base + "/sites/:code/services/:name", summary: "Remove a service", who: person,
			status: http.StatusNoContent, serve: a.removeService},
		{method: "GET", path: base + "/sites/:code/services/:name/history", summary: "A service's spans over a stretch of time",
			who: person, out: contract.History{},
			query: []param{{"format", "csv for comma-separated values", formatParam},
				{"from", "RFC 3339 time; a day ago if left out", momentParam},
				{"until", "RFC 3339 time; now if left out", momentParam}}, serve: a.history},
		{method: "POST", path: base + "/sites/:code/services/:name/probes", summary: "Probe a service now and show each step",
			slow: true, who: person, out: contract.ProbeTrace{},
			query: []param{{"from", "the vantage point; the server itself if left out", wordParam}}, serve: a.probeNow},

		{method: "GET", path: base + "/kinds", summary: "What can be probed: kinds, their transports, ports and options", who: person,
			out: []probe.Trait{}, serve: a.kinds},
		{method: "GET", path: base + "/sites/:code/services/:name/cards",
			summary: "What to type into the site's router for a service", who: person, out: []site.Card{}, serve: a.cards},
		{method: "PUT", path: base + "/sites/:code/services/:name/fingerprint",
			summary: "Pin what a service is recognised by: what it showed last, or what is given", who: person, in: contract.Pin{},
			out: contract.Service{}, serve: a.pin},
		{method: "GET", path: base + "/sites/:code/services/:name/availability",
			summary: "The availability of a service over a day, a week, a month, a quarter and a year", who: person,
			out: []contract.ServiceAvailability{}, serve: a.availability},
		{method: "GET", path: base + "/sites/:code/services/:name/days", summary: "The availability and latency of a service day by day",
			who: person, out: []contract.Availability{}, query: []param{{"count", "how many days, 1 to 400; 90 if left out", numberParam}},
			serve: a.days},
		{method: "GET", path: base + "/sites/:code/availability", summary: "The availability of a site's services over each window",
			who: person,
			out: []contract.ServiceAvailability{}, serve: a.availability},
		{method: "POST", path: base + "/sites/:code/reviews",
			summary: "Look at the site's own address for ports that are commonly left open (application/x-ndjson: progress, then " +
				"the result)", stream: true, who: person, in: contract.ReviewInput{}, out: contract.ReviewNews{}, serve: a.review},
		{method: "GET", path: base + "/sites/:code/reviews", summary: "List a site's exposure reviews, the newest first", who: person,
			out: []contract.Review{}, serve: a.reviews},
		{method: "GET", path: base + "/vantages", summary: "List vantage points", who: person, out: []contract.Vantage{},
			serve: a.vantages},
		{method: "POST", path: base + "/vantages", summary: "Make a one-time code for a vantage point", who: person,
			in: contract.VantageInput{}, out: contract.VantageInvitation{}, status: http.StatusCreated, serve: a.inviteVantage},
		{method: "DELETE", path: base + "/vantages/:name", summary: "Remove a vantage point", who: person,
			status: http.StatusNoContent, serve: a.removeVantage},
		{method: "POST", path: base + "/vantage/enrolment", summary: "Enrol a vantage point with a one-time code",
			in: contract.Enrolment{}, out: contract.VantageEnrolled{}, status: http.StatusCreated, limited: true, serve: a.enrolVantage},
		{method: "GET", path: base + "/vantage/assignments", summary: "Follow what to probe (application/x-ndjson)", who: vantageOnly,
			stream: true, query: []param{{"cursor", "where to resume", numberParam}}, serve: a.assignments},
		{method: "POST", path: base + "/vantage/outcomes", summary: "Return outcomes", who: vantageOnly, in: contract.OutcomeBatch{},
			out: contract.BatchTaken{}, large: true, serve: a.outcomes},

		{method: "POST", path: base + "/agents", summary: "Enrol an agent with a one-time code", in: contract.Enrolment{},
			out: contract.Enrolled{}, status: http.StatusCreated, limited: true, serve: a.enrol},
		{method: "GET", path: "/announce/:key", summary: "Announce by fetching a URL (ipv4, ipv6, name); one line comes back",
			query: fetchParams, out: contract.FetchReply{}, announces: true, serve: a.fetch},
		{method: "POST", path: "/announce/:key", summary: "Announce by a form (ipv4, ipv6, name); one line comes back",
			query: fetchParams, out: contract.FetchReply{}, announces: true, serve: a.fetch},
		{method: "GET", path: "/announce", summary: "Announce by fetching a URL, the key as the password of HTTP Basic",
			query: fetchParams, out: contract.FetchReply{}, announces: true, serve: a.fetch},
		{method: "POST", path: "/announce", summary: "Announce by a form, the key as the password of HTTP Basic", query: fetchParams,
			out: contract.FetchReply{}, announces: true, serve: a.fetch},
		{method: "POST", path: base + "/sites/:code/links/:label/router-keys",
			summary: "Make a key for a router that announces by fetching a URL", who: person, in: contract.KeyInput{},
			out: contract.Key{}, status: http.StatusCreated, serve: a.addRouterKey},
		{method: "GET", path: base + "/agent/observed", summary: "The agent's address as the server sees it", who: agentOnly,
			out: contract.Observed{}, serve: a.observed},
		{method: "POST", path: base + "/agent/key", summary: "Get the key that replaces the agent's", who: agentOnly,
			out: contract.NextKey{}, status: http.StatusCreated, serve: a.nextKey},
		{method: "POST", path: base + "/keys/:id/rotation", summary: "Make an agent replace its key", who: person,
			status: http.StatusNoContent, serve: a.turnKey},
		{method: "GET", path: base + "/agent/tasks", summary: "What the agent is to do at its site; waits for something new",
			who: agentOnly, stream: true, out: contract.AgentTasks{}, serve: a.agentTasks},
		{method: "POST", path: base + "/agent/lan", summary: "Report what the devices on record look like from inside", who: agentOnly,
			in: contract.LANReport{}, status: http.StatusNoContent, serve: a.takeLAN},
		{method: "POST", path: base + "/agent/proofs/:id", summary: "Report how a path proof goes", who: agentOnly,
			in: contract.ProofNews{}, status: http.StatusNoContent, serve: a.tellProof},
		{method: "GET", path: base + "/sites/:code/lan", summary: "What an agent last saw of the site's devices", who: person,
			out: []contract.DeviceReport{}, serve: a.lan},
		{method: "POST", path: base + "/sites/:code/lan", summary: "Have an agent look at the site's devices now", slow: true,
			who: person, out: []contract.DeviceReport{}, serve: a.look},
		{method: "POST", path: base + "/sites/:code/proofs", summary: "Prove that the router passes a port on to the agent's machine",
			slow: true, who: person, in: contract.ProofInput{}, out: contract.Proof{}, serve: a.prove},
		{method: "POST", path: base + "/agent/announcements", summary: "Announce the link's address", who: agentOnly,
			in: contract.Announcement{}, out: contract.Receipt{}, serve: a.announce},
	}
	list = append(list, a.peopleRoutes()...)
	list = append(list, a.secondRoutes()...)
	list = append(list, a.elsewhereRoutes()...)
	list = append(list, a.memberRoutes()...)
	list = append(list, a.removalRoutes()...)
	list = append(list, a.checkupRoutes()...)
	list = append(list, a.filterRoutes()...)
	list = append(list, a.recordRoutes()...)
	list = append(list, a.faultRoutes()...)
	list = append(list, a.noticeRoutes()...)
	list = append(list, a.commissioningRoutes()...)
	list = append(list, a.handoverRoutes()...)
	list = append(list, a.kitRoutes()...)
	list = append(list, a.pushRoutes()...)
	list = append(list, a.calendarRoutes()...)
	if a.lab != nil {
		list = append(list, []route{
			{method: "GET", path: base + "/lab", summary: "The simulated world", who: person, out: contract.World{}, serve: a.world},
			{method: "POST", path: base + "/lab/sites/:code/links/:label/renumberings",
				summary: "Have the simulated provider renumber a link", who: person, out: contract.Renumbering{}, serve: a.renumber},
			{method: "POST", path: base + "/lab/sites/:code/mendings",
				summary: "Bring a simulated site back to what it was: lines, devices, services, forwards", who: person,
				out: contract.Mending{}, serve: a.mend},
			{method: "PUT", path: base + "/lab/primary/running", summary: "Bring the simulated primary of the remote zone back",
				who: person, status: http.StatusNoContent, serve: a.labPrimary(true)},
			{method: "DELETE", path: base + "/lab/primary/running", summary: "Take the simulated primary of the remote zone away",
				who: person, status: http.StatusNoContent, serve: a.labPrimary(false)},
			{method: "PUT", path: base + "/lab/primary/taken/:name/:address",
				summary: "Have somebody else hold a name in the remote zone, at an address", who: person, status: http.StatusNoContent,
				serve: a.labTaken},
			{method: "DELETE", path: base + "/lab/primary/taken/:name", summary: "Free a name that somebody else held in the remote zone",
				who: person, status: http.StatusNoContent, serve: a.labTaken},
			{method: "PUT", path: base + "/lab/providers/:name/running", summary: "End the outage of a simulated provider", who: person,
				status: http.StatusNoContent, serve: a.labProvider(true)},
			{method: "DELETE", path: base + "/lab/providers/:name/running", summary: "Have a simulated provider fail: its lines are dead",
				who: person, status: http.StatusNoContent, serve: a.labProvider(false)},
			{method: "PUT", path: base + "/lab/sites/:code/services/:name/running", summary: "Start a simulated service", who: person,
				status: http.StatusNoContent, serve: a.labService(true)},
			{method: "DELETE", path: base + "/lab/sites/:code/services/:name/running", summary: "Stop a simulated service",
				who: person, status: http.StatusNoContent, serve: a.labService(false)},
			{method: "POST", path: base + "/lab/sites/:code/restarts",
				summary: "Restart the machine on which a simulated site's agent runs",
				who:     person, status: http.StatusNoContent, serve: a.labRestart},
			{method: "PUT", path: base + "/lab/sites/:code/devices/:name/awake", summary: "Wake a simulated device", who: person,
				status: http.StatusNoContent, serve: a.labAwake(true)},
			{method: "DELETE", path: base + "/lab/sites/:code/devices/:name/awake", summary: "Have a simulated device sleep", who: person,
				status: http.StatusNoContent, serve: a.labAwake(false)},
			{method: "PUT", path: base + "/lab/sites/:code/services/:name/forward/:to",
				summary: "Have a simulated router's forward lead to another service", who: person, status: http.StatusNoContent,
				serve: a.labForwardTo},
			{method: "PUT", path: base + "/lab/sites/:code/services/:name/forward", summary: "Restore a simulated router's forward",
				who: person, status: http.StatusNoContent, serve: a.labForward(true)},
			{method: "DELETE", path: base + "/lab/sites/:code/services/:name/forward", summary: "Remove a simulated router's forward",
				who: person, status: http.StatusNoContent, serve: a.labForward(false)},
		}...)
	}
	for i := range list {
		if list[i].status == 0 {
			list[i].status = http.StatusOK
		}
	}
	return list
}
