package declared

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/lanlist"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/rooms"
)

// LANList reads a list of devices as a router printed it, and says which of them are on a site's record. Nothing is changed. Errors:
// store.Missing; site.Flaws where it is no such list.
func (e *Room) LANList(ctx context.Context, code, text string) (contract.LANList, error) {
	p, err := e.SiteSeen(ctx, code)
	if err != nil {
		return contract.LANList{}, err
	}
	form, entries, err := lanlist.Read(text, e.Now())
	if err != nil {
		return contract.LANList{}, site.Flaws{{Field: "list", Detail: err.Error()}}
	}
	out := contract.LANList{Form: form}
	taken := map[string]bool{}
	for _, d := range p.Devices {
		taken[d.Name] = true
	}
	for _, e := range entries {
		one := contract.ListedHost{MAC: e.MAC, Address: e.Address.String()}
		if i := slices.IndexFunc(p.Devices, func(d site.Device) bool { return strings.EqualFold(d.MAC, e.MAC) }); i >= 0 {
			one.Device, one.Recorded = p.Devices[i].Name, rooms.AddressText(p.Devices[i].Address)
		}
		name := e.Name
		if name == "" {
			at := e.Address.As4()
			name = fmt.Sprintf("device-%d", at[3])
		}
		for n := 2; taken[name] && one.Device == ""; n++ {
			name = fmt.Sprintf("%.28s-%d", cmp.Or(e.Name, "device"), n)
		}
		taken[name] = true
		one.Suggested = contract.DeviceInput{Name: name, MAC: e.MAC, Address: one.Address}
		out.Devices = append(out.Devices, one)
	}
	return out, nil
}
