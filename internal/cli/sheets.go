package cli

import (
	_ "embed"
	"html/template"
)

//go:embed sheets.html
var sheetsText string

// sheets is a page with a sheet for each person, to be printed: given life.Shown.
var sheets = template.Must(template.New("sheets").Parse(sheetsText))
