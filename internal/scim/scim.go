// Package scim is the language of SCIM 2.0, for both who asks and who answers: its messages (RFC 7644), its resources and
// what describes them (RFC 7643), cursors (RFC 9865), filters and patches. It does no I/O.
package scim

import (
	"cmp"
	"encoding/json"
	"strconv"
	"strings"
)

// MediaType is of all messages (RFC 7644 §3.1); plain JSON is taken too.
const MediaType = "application/scim+json"

// The names of schemas and messages.
const (
	UserSchema       = "urn:ietf:params:scim:schemas:core:2.0:User"
	GroupSchema      = "urn:ietf:params:scim:schemas:core:2.0:Group"
	EnterpriseSchema = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	ConfigSchema     = "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"
	TypeSchema       = "urn:ietf:params:scim:schemas:core:2.0:ResourceType"
	SchemaSchema     = "urn:ietf:params:scim:schemas:core:2.0:Schema"
	ListMessage      = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
	SearchMessage    = "urn:ietf:params:scim:api:messages:2.0:SearchRequest"
	PatchMessage     = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
	BulkMessage      = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"
	BulkAnswer       = "urn:ietf:params:scim:api:messages:2.0:BulkResponse"
	ErrorMessage     = "urn:ietf:params:scim:api:messages:2.0:Error"
)

// Error is why a request was refused (RFC 7644 §3.12).
type Error struct {
	Schemas []string `json:"schemas"`
	Status  Status   `json:"status"`
	Type    string   `json:"scimType,omitempty"` // uniqueness, mutability, tooMany …; see the RFC's table 9
	Detail  string   `json:"detail,omitempty"`
}

// NewError is an error of a status, with the RFC's word for it or "".
func NewError(status int, typ, detail string) *Error {
	return &Error{[]string{ErrorMessage}, Status(status), typ, detail}
}

// Error says what the other side says, or what its word means, and that in brackets as it stands.
func (e *Error) Error() string {
	raw := strings.TrimSpace(strconv.Itoa(int(e.Status)) + " " + e.Type)
	words := cmp.Or(e.Detail, meanings[e.Type], statusMeans[e.Status])
	if words == "" {
		return raw
	}
	return words + " (" + raw + ")"
}

// meanings are what the words of errors mean (RFC 7644 §3.12, table 9).
var meanings = map[string]string{
	"invalidFilter": "it does not understand the question", "tooMany": "it finds more than it tells",
	"uniqueness": "it has one of that name already", "mutability": "it does not let that be changed",
	"invalidSyntax": "it does not understand what it was sent", "invalidPath": "it knows no attribute of that name",
	"noTarget": "it has nothing there to change", "invalidValue": "it does not take that value",
	"invalidVers": "it does not know this version of the protocol", "sensitive": "it does not take that in an address",
}

// statusMeans are what statuses mean where nothing else is said (RFC 7644 §3.12, table 8).
var statusMeans = map[Status]string{
	400: "it does not understand what it was sent", 401: "it does not let us in", 403: "it does not let us do that",
	404: "it has no such thing", 409: "it is against what it holds", 412: "somebody changed it meanwhile",
	413: "it is more than it takes at once", 429: "it is asked too often", 500: "it broke", 501: "it cannot do that",
	503: "it is out of service for a time",
}

// Status is an HTTP status as SCIM writes it, a string (RFC 7644 §3.12); a number is read too.
type Status int

// MarshalJSON implements json.Marshaler.
func (s Status) MarshalJSON() ([]byte, error) { return json.Marshal(strconv.Itoa(int(s))) }

// UnmarshalJSON implements json.Unmarshaler.
func (s *Status) UnmarshalJSON(b []byte) error {
	n, err := strconv.Atoi(strings.Trim(string(b), `"`))
	*s = Status(n)
	return err
}

// List is a page of resources (RFC 7644 §3.4.2; cursors RFC 9865 §2).
type List struct {
	Schemas   []string          `json:"schemas"`
	Total     int               `json:"totalResults"`
	Start     int               `json:"startIndex,omitempty"` // of the first, from 1
	Count     int               `json:"itemsPerPage"`
	Next      string            `json:"nextCursor,omitempty"`
	Resources []json.RawMessage `json:"Resources"`
}

// Search is a query in a body, so that its filter may be long and stands in no log (RFC 7644 §3.4.3).
type Search struct {
	Schemas    []string `json:"schemas"`
	Filter     string   `json:"filter,omitempty"`
	Attributes []string `json:"attributes,omitempty"`
	Excluded   []string `json:"excludedAttributes,omitempty"`
	Start      int      `json:"startIndex,omitempty"`
	Count      *int     `json:"count,omitempty"`
	Cursor     *string  `json:"cursor,omitempty"`
}

// Patch is changes of a resource (RFC 7644 §3.5.2).
type Patch struct {
	Schemas    []string `json:"schemas"`
	Operations []Change `json:"Operations"`
}

// Change is one of them.
type Change struct {
	Op    string          `json:"op"` // add, replace or remove; upper case is read too
	Path  string          `json:"path,omitempty"`
	Value json.RawMessage `json:"value,omitempty"`
}

// Bulk is many requests in one (RFC 7644 §3.7).
type Bulk struct {
	Schemas    []string  `json:"schemas"`
	FailOn     int       `json:"failOnErrors,omitempty"` // errors after which it ends; 0: none
	Operations []Request `json:"Operations"`
}

// Request is one of them.
type Request struct {
	Method  string          `json:"method"`
	ID      string          `json:"bulkId,omitempty"` // others may name what it makes as bulkId:ID
	Version string          `json:"version,omitempty"`
	Path    string          `json:"path"`
	Data    json.RawMessage `json:"data,omitempty"`
}

// Answers are what became of many requests.
type Answers struct {
	Schemas    []string `json:"schemas"`
	Operations []Answer `json:"Operations"`
}

// Answer is what became of one.
type Answer struct {
	Method   string          `json:"method"`
	ID       string          `json:"bulkId,omitempty"`
	Version  string          `json:"version,omitempty"`
	Location string          `json:"location,omitempty"`
	Status   Status          `json:"status"`
	Response json.RawMessage `json:"response,omitempty"` // of one that failed, an Error
}

// Config is what a server offers (RFC 7643 §5, RFC 9865 §4).
type Config struct {
	Schemas []string `json:"schemas"`
	Patch   Offered  `json:"patch"`
	Bulk    struct {
		Offered
		Operations int `json:"maxOperations"`
		Bytes      int `json:"maxPayloadSize"`
	} `json:"bulk"`
	Filter struct {
		Offered
		Results int `json:"maxResults"`
	} `json:"filter"`
	Password Offered `json:"changePassword"`
	Sort     Offered `json:"sort"`
	ETag     Offered `json:"etag"`
	Pages    struct {
		Cursor  bool   `json:"cursor"`
		Index   bool   `json:"index"`
		Default string `json:"defaultPaginationMethod,omitempty"`
		Most    int    `json:"maxPageSize,omitempty"`
		Timeout int    `json:"cursorTimeout,omitempty"`
	} `json:"pagination"`
	SignIn []Scheme `json:"authenticationSchemes"`
}

// Offered says whether something is.
type Offered struct {
	Supported bool `json:"supported"`
}

// Scheme is a way to sign in.
type Scheme struct {
	Type string `json:"type"`
	Name string `json:"name"`
	Text string `json:"description"`
}

// Type is a sort of resource that a server has (RFC 7643 §6).
type Type struct {
	Schemas    []string    `json:"schemas"`
	ID         string      `json:"id"`
	Name       string      `json:"name"`
	Endpoint   string      `json:"endpoint"`
	Schema     string      `json:"schema"`
	Extensions []Extension `json:"schemaExtensions,omitempty"`
}

// Extension is a further schema of a sort of resource.
type Extension struct {
	Schema   string `json:"schema"`
	Required bool   `json:"required"`
}

// Schema describes resources (RFC 7643 §7).
type Schema struct {
	Schemas    []string    `json:"schemas,omitempty"`
	ID         string      `json:"id"`
	Name       string      `json:"name"`
	Attributes []Attribute `json:"attributes"`
}

// Attribute describes one of a resource's.
type Attribute struct {
	Name       string      `json:"name"`
	Type       string      `json:"type"` // string, boolean, decimal, integer, dateTime, binary, reference, complex
	Many       bool        `json:"multiValued"`
	Required   bool        `json:"required"`
	Exact      bool        `json:"caseExact"`
	Mutability string      `json:"mutability"` // readOnly, readWrite, immutable, writeOnly
	Returned   string      `json:"returned"`   // always, never, default, request
	Uniqueness string      `json:"uniqueness"` // none, server, global
	Values     []string    `json:"canonicalValues,omitempty"`
	Attributes []Attribute `json:"subAttributes,omitempty"`
}

// Find returns an attribute by its name, in any case; nil when there is none.
func (s *Schema) Find(name string) *Attribute {
	if s == nil {
		return nil
	}
	return find(s.Attributes, name)
}

func find(list []Attribute, name string) *Attribute {
	for i := range list {
		if strings.EqualFold(list[i].Name, name) {
			return &list[i]
		}
	}
	return nil
}
