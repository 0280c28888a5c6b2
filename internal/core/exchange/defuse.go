package exchange

import "strings"

// A spreadsheet runs a cell that begins with one of these as a formula, and
// takes an apostrophe before it for "text". It is put before those, and before
// an apostrophe itself, so that it can be taken away again and nothing is lost.
const fuses = "=+-@\t\r'"

// Defuse makes a text one that no spreadsheet takes for a formula.
func Defuse(cell string) string {
	if cell != "" && strings.IndexByte(fuses, cell[0]) >= 0 {
		return "'" + cell
	}
	return cell
}

// Plain is the text that was defused.
func Plain(cell string) string {
	if len(cell) > 1 && cell[0] == '\'' && strings.IndexByte(fuses, cell[1]) >= 0 {
		return cell[1:]
	}
	return cell
}
