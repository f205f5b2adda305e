package contract

import (
	"time"

	"inkpost.example/inkpost/internal/core/notice"
)

// Addressee is a person with where notices to them go.
type Addressee struct {
	Name string `json:"name"`
	Mail string `json:"mail"`
	Zone string `json:"zone"` // IANA name of the time zone that they live by; UTC if empty
}

// AddresseeInput says where notices to a person go.
type AddresseeInput struct {
	Mail string `json:"mail"`
	Zone string `json:"zone"`
}

// Hook is a webhook that notices go to. Secret is shown once, when it is made.
type Hook struct {
	Name    string    `json:"name"`
	URL     string    `json:"url"`
	Secret  string    `json:"secret,omitempty"`
	Created time.Time `json:"created,omitzero"`
}

// HookInput names a webhook.
type HookInput struct {
	Name string `json:"name"`
	URL  string `json:"url"`
}

// Notice is the way of one message to one recipient: sent, waiting for its next try, or given up.
type Notice struct {
	ID      int64       `json:"id"`
	To      string      `json:"to"` // person NAME or hook NAME
	Way     notice.Way  `json:"way"`
	State   string      `json:"state"`
	Tries   int         `json:"tries"`
	Decided time.Time   `json:"decided"`
	Done    time.Time   `json:"done,omitzero"` // when it was sent or given up
	Target  string      `json:"target,omitempty"`
	Problem string      `json:"problem,omitempty"` // of the last try
	What    notice.What `json:"what"`
	Subject string      `json:"subject"`
}

// NoticeStory is a notice with what it says.
type NoticeStory struct {
	Notice
	Content notice.Content `json:"content"`
	Text    string         `json:"text"` // as mail
}

// CalendarEntry is one thing in the calendar of planned work and of what ends.
type CalendarEntry struct {
	ID    string    `json:"id"`
	From  time.Time `json:"from"`
	Until time.Time `json:"until"`
	Title string    `json:"title"`
	Words string    `json:"words,omitempty"`
}

// CalendarInput names a calendar, so that its key is recognised.
type CalendarInput struct {
	Label string `json:"label"`
}

// NoticeTest asks for a test to a person or a hook.
type NoticeTest struct {
	Person string `json:"person,omitempty"`
	Hook   string `json:"hook,omitempty"`
	// Way is mail, or push to each browser of the person; mail if empty.
	Way notice.Way `json:"way,omitempty"`
}

// PushKey is the public key with which a browser subscribes (applicationServerKey).
type PushKey struct {
	Key string `json:"key"`
}

// PushInput is a subscription as a browser makes it (PushSubscription.toJSON), and what the browser is called.
type PushInput struct {
	Endpoint string `json:"endpoint"`
	Keys     struct {
		P256DH string `json:"p256dh"`
		Auth   string `json:"auth"`
	} `json:"keys"`
	Label string `json:"label"`
}

// PushBrowser is a browser that wants to be told. Service is the host of its push service.
type PushBrowser struct {
	ID      int64     `json:"id"`
	Label   string    `json:"label"`
	Service string    `json:"service"`
	Created time.Time `json:"created"`
}

// NoticeTrial is how a test went, step by step.
type NoticeTrial struct {
	Target string       `json:"target"`
	Good   bool         `json:"good"`
	Steps  []NoticeStep `json:"steps"`
}

// NoticeStep is one step of sending.
type NoticeStep struct {
	Name  string `json:"step"`
	Words string `json:"words"`
	Good  bool   `json:"good"`
}
