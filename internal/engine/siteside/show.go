package siteside

import (
	"time"

	"inkpost.example/inkpost/internal/core/site"
)

// Show takes over what another server knows of a link; known is false where there is no report.
func (s *Side) Show(linkID int64, heard time.Time, known bool, r site.LinkReport, w site.RouterWord) {
	if known {
		s.reports.with(linkID, func(l *linkState) { l.report, l.router = r, w })
	}
	s.heard.mu.Lock()
	defer s.heard.mu.Unlock()
	s.heard.at[linkID] = heard
}

// ShowDevice takes over what another server last saw of a device.
func (s *Side) ShowDevice(deviceID int64, r DeviceReport) {
	s.devices.mu.Lock()
	defer s.devices.mu.Unlock()
	s.devices.byID[deviceID] = r
}

// ShowSince takes over since when silence proves something to another server.
func (s *Side) ShowSince(since time.Time) {
	s.clock.mu.Lock()
	defer s.clock.mu.Unlock()
	s.clock.since = since
}
