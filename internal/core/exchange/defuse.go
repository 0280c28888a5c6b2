package exchange

import (
	"strings"

	"hen-roost/internal/core/model"
)

// A spreadsheet runs a cell that begins with one of these as a formula, and
// takes an apostrophe before it for "text". It is put before those, and before
// an apostrophe itself, so that it can be taken away again and nothing is lost.
const fuses = "=+-@\t\r'"

// Defuse makes a text one that no spreadsheet takes for a formula, and that is
// read as it stands: controls, line separators and marks that turn the direction
// of writing become spaces, as on the terminal.
func Defuse(cell string) string {
	cell = model.Clean(cell, true)
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
