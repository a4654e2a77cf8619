package design

import (
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"dravin/core/negotiate"
)

// form is the grammar of a text field, named by the tag form of the field. A
// field without one is a line of plain text.
type form struct {
	most    int                // characters
	lines   bool               // tabs and line ends are allowed
	check   func(string) error // says why not and what would do; nil: anything
	pattern string             // for the JSON Schema, where one line can say it
}

// What a text may at most hold, characters.
const (
	maxLine = 500
	maxFree = 20_000
)

var orderCode = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._:/-]{0,99}$`)

// portName is a name that an interface of Linux can have, and that stands for nothing else in a script.
var portName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,14}$`)

var forms = map[string]form{
	"": {most: maxLine},
	// Free text is stored and shown, and never rendered into a file for a box.
	"free": {most: maxFree, lines: true},
	"identity": {most: maxLine, check: func(text string) error {
		_, err := negotiate.ParseIdentity(text)
		return err
	}},
	"ike": {most: maxLine, check: proposal(negotiate.IKE)},
	"esp": {most: maxLine, check: proposal(negotiate.ESP)},
	"position": {most: maxLine, check: func(text string) error {
		_, err := ParsePosition(text)
		return err
	}},
	"community": {most: maxLine, check: func(text string) error {
		_, err := negotiate.ParseCommunity(text)
		return err
	}},
	"port": {most: maxLine, pattern: portName.String(), check: func(text string) error {
		if !portName.MatchString(text) {
			return errors.New("is no name of a port; it has up to 15 letters, digits and . _ -, such as enp3s0")
		}
		return nil
	}},
	"code": {most: maxLine, pattern: orderCode.String(), check: func(text string) error {
		if !orderCode.MatchString(text) {
			return errors.New("is no order code; it has up to 100 letters, digits and . _ : / -")
		}
		return nil
	}},
}

func proposal(proto negotiate.Protocol) func(string) error {
	return func(text string) error {
		_, err := negotiate.ParseProposal(proto, text)
		return err
	}
}

// fits reports why a text does not have its form, nil if it does.
func (f form) fits(text string) error {
	switch n := utf8.RuneCountInString(text); {
	case text == "":
		return nil
	case n > f.most:
		return fmt.Errorf("has %d characters; at most %d are allowed", n, f.most)
	case f.lines && !IsText(text):
		return errors.New("holds a control character, or is not UTF-8; use letters, digits, marks, tabs and line ends")
	case !f.lines && !IsLine(text):
		return errors.New("holds a control character, or is not UTF-8; use letters, digits and marks on one line")
	case f.check != nil:
		return f.check(text)
	}
	return nil
}

// textField is a field of a struct that holds texts, at whatever depth.
type textField struct {
	index     int
	key, form string
}

var textFieldsOf sync.Map // of []textField by reflect.Type: validation asks for every object

func textFields(t reflect.Type) []textField {
	if known, ok := textFieldsOf.Load(t); ok {
		return known.([]textField)
	}
	var out []textField
	for n := range t.NumField() {
		if sf := t.Field(n); sf.IsExported() && holdsText(sf.Type) {
			key, _ := keyOf(sf)
			out = append(out, textField{n, key, sf.Tag.Get("form")})
		}
	}
	textFieldsOf.Store(t, out)
	return out
}

func holdsText(t reflect.Type) bool {
	switch t.Kind() {
	case reflect.String:
		return t != reflect.TypeFor[Ref]() // a reference is no text
	case reflect.Pointer, reflect.Slice:
		return holdsText(t.Elem())
	case reflect.Struct:
		return len(textFields(t)) > 0
	}
	return false
}

// eachText calls do for every text in a value, at any depth, with its field's
// path and form.
func eachText(v reflect.Value, path, name string, do func(path string, f form, text string)) {
	switch v.Kind() {
	case reflect.String:
		do(path, forms[name], v.String())
	case reflect.Pointer:
		if !v.IsNil() {
			eachText(v.Elem(), path, name, do)
		}
	case reflect.Slice:
		for n := range v.Len() {
			eachText(v.Index(n), fmt.Sprintf("%s[%d]", path, n), name, do)
		}
	case reflect.Struct:
		for _, f := range textFields(v.Type()) {
			eachText(v.Field(f.index), join(path, f.key), f.form, do)
		}
	}
}

// textProblems tells of every text in a body that has not its form.
func textProblems(body reflect.Value, add func(field, why, want string)) {
	eachText(body, "", "", func(path string, f form, text string) {
		if err := f.fits(text); err != nil {
			why, want, _ := strings.Cut(err.Error(), "; ")
			add(path, shown(text)+" "+why, want)
		}
	})
}

// shown is a text in an error: quoted, and no longer than one reads.
func shown(text string) string {
	const most = 60
	if utf8.RuneCountInString(text) > most {
		text = string([]rune(text[:min(len(text), 4*most)])[:most]) + "…"
	}
	return strconv.Quote(text)
}

// IsText reports whether s can be stored and shown as text: UTF-8 without
// control characters other than tabs and line ends, and without marks that turn
// the direction in which it is read.
func IsText(s string) bool {
	return utf8.ValidString(s) && !strings.ContainsFunc(s, func(r rune) bool {
		return unicode.IsControl(r) && r != '\n' && r != '\t' || unicode.Is(unicode.Bidi_Control, r)
	})
}

// IsLine reports whether s is text on one line, without tabs.
func IsLine(s string) bool {
	return IsText(s) && !strings.ContainsAny(s, "\n\t\u2028\u2029")
}
