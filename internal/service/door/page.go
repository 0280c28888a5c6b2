package door

import "hen-roost/internal/store"

// Page is a part of a longer list: From counts from 0.
type Page struct{ From, Size int }

const (
	pageSize = 100
	PageMost = 1000
)

// Bounded is the page within what is told at once.
func (p Page) Bounded() store.Page {
	if p.Size <= 0 {
		p.Size = pageSize
	}
	return store.Page{From: max(0, p.From), Size: min(p.Size, PageMost)}
}
