package app

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// CheckText tells what is wrong with a text that is shown to people in one line, such as a
// name or a reason; empty where nothing is. Control characters, and marks that turn the
// direction of writing, would let one person's text write over another's screen.
func CheckText(s string, least, most int) string {
	switch {
	case len(s) < least || len(s) > most:
		return fmt.Sprintf("must be %d to %d bytes", least, most)
	case !utf8.ValidString(s):
		return "must be valid UTF-8"
	case strings.ContainsFunc(s, unseen):
		return "must hold no control characters, such as escapes, line breaks or marks that turn the direction of " +
			"writing"
	}
	return ""
}

// CheckShown tells what is wrong with a text that is shown to people, in as many lines as it has; empty
// where nothing is.
func CheckShown(s string) string {
	if strings.ContainsFunc(s, func(r rune) bool { return r != '\n' && r != '\t' && r != '\r' && unseen(r) }) {
		return "must hold no control characters, such as escapes or marks that turn the direction of writing"
	}
	return ""
}

// Plain is a text without what CheckText refuses.
func Plain(s string) string {
	return strings.Map(func(r rune) rune {
		if unseen(r) {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, ""))
}

// unseen are control characters, and format characters but for those that join letters.
func unseen(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) && r != '\u200c' && r != '\u200d' || r == '\u2028' ||
		r == '\u2029'
}
