package scim

import (
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
)

// ReadSearch reads a query out of a request's address or, of a POST, its body (RFC 7644 §3.4.2, §3.4.3). Its error is an *Error.
func ReadSearch(r *http.Request) (Search, error) {
	var q Search
	if r.Method == http.MethodPost {
		if err := json.NewDecoder(r.Body).Decode(&q); err != nil {
			return q, NewError(400, "invalidSyntax", "the query cannot be read: "+err.Error())
		}
		return q, nil
	}
	v := r.URL.Query()
	q.Filter = v.Get("filter")
	number := func(name string, into *int) error {
		if !v.Has(name) {
			return nil
		}
		n, err := strconv.Atoi(v.Get(name))
		if err != nil {
			return NewError(400, "invalidValue", name+" is a number")
		}
		*into = n
		return nil
	}
	if err := number("startIndex", &q.Start); err != nil {
		return q, err
	}
	if v.Has("count") {
		q.Count = new(int)
		if err := number("count", q.Count); err != nil {
			return q, err
		}
	}
	if v.Has("cursor") {
		c := v.Get("cursor")
		q.Cursor = &c
	}
	for _, f := range []struct {
		from string
		to   *[]string
	}{{"attributes", &q.Attributes}, {"excludedAttributes", &q.Excluded}} {
		if s := v.Get(f.from); s != "" {
			*f.to = strings.Split(s, ",")
		}
	}
	return q, nil
}
