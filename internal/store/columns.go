package store

import (
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"net/netip"
	"time"
)

// inet is an address column; the zero Addr is NULL.
type inet struct{ netip.Addr }

// Scan implements sql.Scanner.
func (a *inet) Scan(v any) error {
	switch v := v.(type) {
	case nil:
		a.Addr = netip.Addr{}
		return nil
	case string:
		if p, err := netip.ParsePrefix(v); err == nil {
			a.Addr = p.Addr()
			return nil
		}
		parsed, err := netip.ParseAddr(v)
		a.Addr = parsed
		return err
	}
	return fmt.Errorf("an address column gave %T", v)
}

// Value implements driver.Valuer.
func (a inet) Value() (driver.Value, error) {
	if !a.IsValid() {
		return nil, nil
	}
	return a.String(), nil
}

// endpoint is a text column with an address and a port; the zero AddrPort is "".
type endpoint struct{ netip.AddrPort }

// Scan implements sql.Scanner.
func (e *endpoint) Scan(v any) (err error) {
	e.AddrPort = netip.AddrPort{}
	switch v := v.(type) {
	case string:
		if v != "" {
			e.AddrPort, err = netip.ParseAddrPort(v)
		}
		return err
	}
	return fmt.Errorf("an endpoint column gave %T", v)
}

// Value implements driver.Valuer.
func (e endpoint) Value() (driver.Value, error) {
	if !e.IsValid() {
		return "", nil
	}
	return e.String(), nil
}

// when is a time column; the zero Time is NULL. Times come back in UTC.
type when struct{ time.Time }

// Scan implements sql.Scanner.
func (w *when) Scan(v any) error {
	var n sql.NullTime
	if err := n.Scan(v); err != nil {
		return err
	}
	w.Time = time.Time{}
	if n.Valid {
		w.Time = n.Time.UTC()
	}
	return nil
}

// Value implements driver.Valuer.
func (w when) Value() (driver.Value, error) {
	if w.IsZero() {
		return nil, nil
	}
	return w.Time, nil
}

// list is a JSON array column.
type list[T any] []T

// Scan implements sql.Scanner.
func (l *list[T]) Scan(v any) error {
	switch v := v.(type) {
	case string:
		return json.Unmarshal([]byte(v), (*[]T)(l))
	case []byte:
		return json.Unmarshal(v, (*[]T)(l))
	}
	return fmt.Errorf("an array column gave %T", v)
}

// Value implements driver.Valuer.
func (l list[T]) Value() (driver.Value, error) {
	if l == nil {
		return "[]", nil
	}
	doc, err := json.Marshal([]T(l))
	return string(doc), err
}

// ref is a foreign key column; 0 is NULL.
type ref int64

// Scan implements sql.Scanner.
func (r *ref) Scan(v any) error {
	var n sql.NullInt64
	err := n.Scan(v)
	*r = ref(n.Int64)
	return err
}

// Value implements driver.Valuer.
func (r ref) Value() (driver.Value, error) {
	if r == 0 {
		return nil, nil
	}
	return int64(r), nil
}
