package design

import (
	"net/netip"
	"reflect"
)

// hostsOnly are fields whose addresses tell no packets apart by themselves: those that
// have them are hosts, and are looked at one by one.
var hostsOnly = map[reflect.Type]string{reflect.TypeFor[Endpoint](): "Addresses"}

// PrefixesOf are all ranges that a body names in any field, addresses as ranges of one:
// whatever a table, filter, rule, selector or summary may tell packets apart by. A range
// with host bits stands for itself without them, and for the one address.
func PrefixesOf(b Body) []netip.Prefix {
	var out []netip.Prefix
	gather(reflect.ValueOf(b).Elem(), &out)
	return out
}

func gather(v reflect.Value, out *[]netip.Prefix) {
	switch x := v.Interface().(type) {
	case netip.Prefix:
		if x.IsValid() {
			*out = append(*out, x.Masked())
			if x != x.Masked() {
				*out = append(*out, netip.PrefixFrom(x.Addr(), x.Addr().BitLen()))
			}
		}
		return
	case netip.Addr:
		if x.IsValid() && !x.IsUnspecified() {
			*out = append(*out, netip.PrefixFrom(x, x.BitLen()))
		}
		return
	}
	switch v.Kind() {
	case reflect.Slice:
		if !mayHold(v.Type().Elem()) {
			return
		}
		for n := range v.Len() {
			gather(v.Index(n), out)
		}
	case reflect.Struct:
		for n := range v.NumField() {
			if f := v.Type().Field(n); f.IsExported() && f.Name != hostsOnly[v.Type()] && mayHold(f.Type) {
				gather(v.Field(n), out)
			}
		}
	}
}

// mayHold reports whether values of a type may hold a range or address.
func mayHold(t reflect.Type) bool { return t.Kind() == reflect.Struct || t.Kind() == reflect.Slice }
