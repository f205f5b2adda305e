package access

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/store"
)

// ErrCode reports an enrolment code that cannot be used.
var ErrCode = errors.New("this code is not valid: it is mistyped, was used already or is older than a day; ask for another with " +
	"inkpost agent invite, or inkpost vantage invite for a vantage point")

// RotateKey makes an agent replace its key at its next check; the one that it has is revoked once the other is used. Error:
// store.Missing.
func (a *Access) RotateKey(ctx context.Context, id int64) error {
	return a.editKey(ctx, id, "a key is to be rotated",
		func(ctx context.Context, tx *store.Store) error { return tx.RotateKey(ctx, id, fmt.Sprint(id)) })
}

// RotationDue reports whether an agent's key has to be replaced, and revokes the key's predecessor now that it is used. Error: that of the
// database.
func (a *Access) RotationDue(ctx context.Context, k store.Key) (bool, error) {
	if k.Replaces != 0 {
		if err := a.editKey(ctx, k.ID, "an agent uses its new key",
			func(ctx context.Context, tx *store.Store) error { return tx.SettleKey(ctx, k.ID, a.now()) }); err != nil {
			return false, err
		}
	}
	return k.Rotate || a.now().Sub(k.Created.Time) > agentKeyLife, nil
}

// NextKey returns an agent the successor of its key, which stays good until the new one is used. Error: site.Flaws for a key that is not
// due.
func (a *Access) NextKey(ctx context.Context, k store.Key) (string, error) {
	if due, err := a.RotationDue(ctx, k); err != nil || !due {
		return "", errors.Join(err, site.Flaws{{Field: "key",
			Detail: "this key is not due to be rotated; an operator asks for that with: inkpost key rotate KEY"}})
	}
	next := keyPrefix + newSecret()
	return next, a.editKey(ctx, k.ID, "an agent gets a new key", func(ctx context.Context, tx *store.Store) error {
		return tx.SucceedKey(ctx, k.ID, Hash(next), a.now())
	})
}

// Invite makes a one-time code, good for a day, with which an agent of a link enrols. Error: site.Flaws.
func (a *Access) Invite(ctx context.Context, linkID int64, mayAnnounce []netip.Prefix) (code string, expires time.Time, err error) {
	if err := CheckPrefixes(mayAnnounce); err != nil {
		return "", expires, site.Flaws{{Field: "may_announce", Detail: err.Error()}}
	}
	code, expires = newCode(3), a.now().Add(invitationLife)
	return code, expires, a.store.Together(ctx, func(tx *store.Store) error {
		return tx.AddEnrolment(ctx, Hash(code), linkID, expires, mayAnnounce)
	})
}

// Enrol returns an agent a key for a one-time code, the same to who lost the answer and has the claim. Errors: ErrCode, site.Flaws.
func (a *Access) Enrol(ctx context.Context, code, claim, label string) (key string, linkID int64, err error) {
	if label = strings.TrimSpace(label); label == "" {
		label = "agent"
	}
	if err := checkLabel(label); err != nil {
		return "", 0, err
	}
	if key, err = claimedKey(code, claim); err != nil {
		return "", 0, err
	}
	err = a.editor.EditKeys(ctx, "an agent enrolled", func(ctx context.Context, tx *store.Store, touched *Touched) (err error) {
		linkID, err = tx.Enrol(ctx, hashOfCode(code), Hash(key), label, a.now())
		touched.Links = []int64{linkID}
		return err
	})
	has, err := a.has(key, err)
	return key, max(linkID, int64(has.LinkID)), err
}

// InviteVantage makes a one-time code, good for a day, with which a machine enrols as a vantage point. Error: that of the database.
func (a *Access) InviteVantage(ctx context.Context, vantageID int64) (code string, expires time.Time, err error) {
	code, expires = newCode(3), a.now().Add(invitationLife)
	return code, expires, a.store.Together(ctx, func(tx *store.Store) error {
		return tx.AddVantageEnrolment(ctx, Hash(code), vantageID, expires)
	})
}

// EnrolVantage returns a vantage point a key for a one-time code, as Enrol does. Errors: ErrCode, site.Flaws.
func (a *Access) EnrolVantage(ctx context.Context, code, claim string) (key string, vantageID int64, err error) {
	if key, err = claimedKey(code, claim); err != nil {
		return "", 0, err
	}
	err = a.editor.EditKeys(ctx, "a vantage point enrolled", func(ctx context.Context, tx *store.Store, touched *Touched) (err error) {
		vantageID, err = tx.EnrolVantage(ctx, hashOfCode(code), Hash(key), a.now())
		touched.Vantages = []int64{vantageID}
		return err
	})
	has, err := a.has(key, err)
	return key, max(vantageID, int64(has.VantageID)), err
}

func hashOfCode(code string) []byte { return Hash(strings.ToUpper(strings.TrimSpace(code))) }

// has returns the key of an enrolment that was carried out before, where err is that its code cannot be used. Error: ErrCode, or err.
func (a *Access) has(key string, err error) (store.Key, error) {
	if missing := (store.Missing{}); !errors.As(err, &missing) {
		return store.Key{}, err
	} else if k, ok := a.keys.Key(Hash(key)); ok && k.Revoked.IsZero() {
		return k, nil
	}
	return store.Key{}, ErrCode
}
