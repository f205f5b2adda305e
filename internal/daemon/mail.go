package daemon

import "inkpost.example/inkpost/internal/wire/mail"

// MailServer is the server that notices are mailed by, and MailSecurity how the way there is protected.
type (
	MailServer   = mail.Server
	MailSecurity = mail.Security
)

// MailStartTLS encrypts after the greeting, which is what is done where nothing else is said; MailPlain never does.
const (
	MailStartTLS = mail.StartTLS
	MailPlain    = mail.Plain
)
