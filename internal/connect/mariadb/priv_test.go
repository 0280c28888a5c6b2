package mariadb

import (
	"encoding/json"
	"reflect"
	"testing"
)

// What is read here fast is what the standard library reads, and nothing else is taken.
func FuzzPriv(f *testing.F) {
	for _, s := range []string{`{"access":0,"plugin":"mysql_native_password","authentication_string":"invalid","password_last_changed":1795696228}`,
		`{"access":18446744073709551615,"version_id":101119}`, `{}`, `{"access":1,}`, `{"access":-1}`, `{"access":01}`, `{"plugin":"a\u0041"}`,
		`{ "access": 2 , "auth_or":[{},{"plugin":"x"}]}`, `{"account_locked":true}`, `{"default_role":"Ünal"}`, `{"access":1 2}`, `{"plugin":""}`,
		`{"access":3}{`, `{"access":"3"}`, `{"plugin":7}`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		var fast, slow priv
		if fast.flat(b) {
			if err := json.Unmarshal(b, &slow); err != nil || !reflect.DeepEqual(fast, slow) {
				t.Errorf("%q: %+v, and %+v (%v)", b, fast, slow, err)
			}
		}
	})
}
