package model

// called is what attributes are called for people, where that is not their name.
// It is the one list of it: the command line and the console both show it.
var called = map[string]string{
	FullName: "full name", MemberGroups: "groups in it", Elevation: "superuser through", PrimaryGroup: "primary group",
	Passwordless: "no password", PasswordHash: "password, by its hash", PasswordKept: "its password as it was",
	MustChange: "must change it",
	ChangedBy:  "changed last by",
	ClockOff:   "clock", UpSince: "up since",
	HostName: "host name",
	"given":  "given name", "surname": "family name", "naming-contexts": "naming contexts", Guarded: "protected there",
	"password.length": "shortest password", "password.history": "passwords remembered", "password.complex": "mixed characters",
	"password.min-age": "password kept at least", "password.max-age": "password kept at most",
	"lockout.after": "locked after", "lockout.within": "counted within", "lockout.for": "locked for", "for-groups": "for groups",
	SharedLogin: "shared", FactoryMade: "as delivered", LastSignIn: "last sign-in", FailedSignIns: "failed sign-ins",
	LyingAbout: "lying about", KeptBy: "kept by", LastUse: "last use",
	InUse: "in use", PasswordChanged: "password changed", "password-min-age": "password kept at least",
	"password-max-age": "password kept at most", "password-warning": "warned before", "password-inactive": "shut when unchanged for",
	SignIn: "signs in by", "default-role": "role from the beginning", "tls": "TLS demanded", "sessions-most": "sessions at most",
	"queries-most": "statements an hour at most", "updates-most": "changes an hour at most", "sign-ins-most": "sign-ins an hour at most",
	"certificate-subject": "certificate made out to", "certificate-issuer": "certificate issued by", "inherits": "has what its groups have",
	"settings": "settings of its own", "on-request": "has on request", "never-as": "may not act as",
	"other-keys": "keys of others", OpenWide: "open from anywhere", WeakSignIn: "weak sign-in", ShadowedBy: "answered for by another",
	UnevenWith: "unlike its namesakes", PasswordEnds: "password ends", Owns: "belongs to it",
	Commits: "changed last by", HoldsSets: "holds", Owner: "whose", Seats: "seats", Allows: "allows", "member": "member",
}

// Called is what an attribute is called for people.
func Called(attribute string) string {
	if words := called[attribute]; words != "" {
		return words
	}
	return attribute
}
