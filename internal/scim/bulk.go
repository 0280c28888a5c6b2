package scim

import (
	"encoding/json"
	"strings"
)

// Reference stands before the name of what another request of many makes (RFC 7644 §3.7.2).
const Reference = "bulkId:"

// Resolve puts ids in the place of references to what others of many have made; true while one is not known.
func (q *Request) Resolve(made map[string]string) (missing bool) {
	data := string(q.Data)
	if !strings.Contains(q.Path, "/"+Reference) && !strings.Contains(data, `"`+Reference) {
		return false
	}
	for id, real := range made {
		if strings.HasSuffix(q.Path, "/"+Reference+id) {
			q.Path = strings.TrimSuffix(q.Path, Reference+id) + real
		}
		data = strings.ReplaceAll(data, `"`+Reference+id+`"`, `"`+real+`"`)
	}
	q.Data = json.RawMessage(data)
	return strings.Contains(q.Path, "/"+Reference) || strings.Contains(data, `"`+Reference)
}
