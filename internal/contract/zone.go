package contract

import (
	"net/netip"
	"time"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/site"
)

// RedirectInput is what a person gives of a redirect name: where it leads, by scheme (http), port (the scheme's) and path
// (/), with the path that was asked for behind it where KeepPath is set; 307 or 308. TTL 0 takes the zone's.
type RedirectInput struct {
	Name     string `json:"name"`
	Hostname string `json:"hostname"`
	TTL      int    `json:"ttl_seconds"`
	Scheme   string `json:"scheme"`
	Port     int    `json:"port"`
	Path     string `json:"path"`
	KeepPath bool   `json:"keep_path"`
	Status   int    `json:"status"`
}

// Redirect is a redirect name, and where it leads.
type Redirect struct {
	site.Redirect
	Leads string `json:"leads"`
}

// NameCheck reports whether a name could be a hostname here. Name is in ASCII (RFC 5891), Shown as a person reads it.
type NameCheck struct {
	Name   string `json:"name"`
	Shown  string `json:"shown"`
	Zone   string `json:"zone,omitempty"`
	Legal  bool   `json:"legal"`
	Free   bool   `json:"free"`
	Detail string `json:"detail"`
}

// ZoneImport says what a zone file brings, or would bring.
type ZoneImport struct {
	Zone    names.Name      `json:"zone"`
	New     bool            `json:"new"`
	Carried bool            `json:"carried_out"`
	Added   []names.Record  `json:"added"`
	Removed []names.Record  `json:"removed"`
	Same    int             `json:"same"`
	Left    []LeftOutRecord `json:"left_out"`
	// Servers says what the file's SOA and NS records change of the zone; ServersKept that this is not carried out, as nobody asked
	// for it.
	Servers     []string `json:"servers,omitempty"`
	ServersKept bool     `json:"servers_kept,omitempty"`
}

// ZoneImportInput says how a zone file is taken over.
type ZoneImportInput struct {
	Replace        bool // records that the file does not have are removed
	ReplaceServers bool // SOA and servers of a zone that is on record become the file's
	DryRun         bool
}

// RecordInput is a record to put into a zone. Without a TTL it has the zone's; 0 is a TTL.
type RecordInput struct {
	Name names.Name `json:"name"`
	Type string     `json:"type"`
	TTL  *int       `json:"ttl_seconds,omitempty"`
	Data string     `json:"data"`
}

// LeftOutRecord is a record of a zone file that is not taken over, and why.
type LeftOutRecord struct {
	names.Record
	Reason string `json:"reason"`
}

// ZoneRecord is a record that somebody put into a zone.
type ZoneRecord struct {
	ID int64 `json:"id"`
	names.Record
}

// SigningKeyInput asks for a TSIG key: for zone transfers, or for updates of a site's own names.
type SigningKeyInput struct {
	Name      string `json:"name"`
	Algorithm string `json:"algorithm"`
	Site      string `json:"site"`
	// Secret in base64, where somebody else made the key; a new one is made where it is empty.
	Secret string `json:"secret"`
	// MayAnnounce are the prefixes in which updates may set addresses that are not their sender's own.
	MayAnnounce []netip.Prefix `json:"may_announce,omitempty"`
}

// SigningKey is a TSIG key (RFC 8945). Secret, in base64, is there in the reply that made the key only.
type SigningKey struct {
	Name      string    `json:"name"`
	Algorithm string    `json:"algorithm"`
	Site      string    `json:"site,omitempty"`
	Created   time.Time `json:"created"`
	Secret    string    `json:"secret,omitempty"`
	// MayAnnounce are the prefixes in which updates may set addresses that are not their sender's own.
	MayAnnounce []netip.Prefix `json:"may_announce,omitempty"`
}

// ZoneInput is what a person gives of a zone. A server is written NAME or NAME=ADDRESS.
type ZoneInput struct {
	Apex    string   `json:"apex"`
	Contact string   `json:"contact"`
	TTL     int      `json:"ttl_seconds"`
	Servers []string `json:"servers"`
	// Timers of the SOA record, in seconds (RFC 1035 section 3.3.13; Negative: RFC 2308 section 4). 0 takes the default.
	Refresh  int `json:"refresh_seconds"`
	Retry    int `json:"retry_seconds"`
	Expire   int `json:"expire_seconds"`
	Negative int `json:"negative_seconds"`
	// TransferTo lists addresses and prefixes that may have the whole zone; TransferKey names the TSIG key whose holders
	// may. Notify lists the secondaries to tell of changes.
	TransferTo  []string `json:"transfer_to"`
	TransferKey string   `json:"transfer_key"`
	Notify      []string `json:"notify"`
	// AlsoAsk lists further authoritative servers that have to answer the same. Template makes a site's first name.
	AlsoAsk  []string `json:"also_ask"`
	Template string   `json:"template"`
	// Kind is hosted if empty. The rest belongs to remote zones: the primary's address, udp or tcp, the signing key that it knows us by,
	// and how often names are asserted again.
	Kind       string `json:"kind"`
	Primary    string `json:"primary"`
	Transport  string `json:"transport"`
	PrimaryKey string `json:"primary_key"`
	Reassert   int    `json:"reassert_seconds"`
}

// Push is how one name of a remote zone stands at its primary.
type Push struct {
	Name  names.Name `json:"name"`
	State string     `json:"state"`
	Taken time.Time  `json:"taken,omitzero"`
	// Wanted is what the name should have there, and NextTry when it is tried next.
	Wanted  string    `json:"wanted,omitempty"`
	NextTry time.Time `json:"next_try,omitzero"`
	Tries   int       `json:"tries"`
	Detail  string    `json:"detail,omitempty"`
}
