package account

import (
	"bytes"
	"image/png"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The values of RFC 6238, appendix B, for SHA-1, of which codes have the last six digits.
var vectors = map[int64]string{59: "287082", 1111111109: "081804", 1111111111: "050471", 1234567890: "005924", 2000000000: "279037", 20000000000: "353130"}

var rfc = plain.EncodeToString([]byte("12345678901234567890"))

func TestCodesAreThoseOfTheStandard(t *testing.T) {
	for at, want := range vectors {
		got, err := Code(rfc, time.Unix(at, 0))
		require.NoError(t, err)
		assert.Equal(t, want, got)
		used, ok := CodeStep(rfc, want, 0, time.Unix(at, 0))
		assert.True(t, ok)
		assert.Equal(t, at/30, used)
	}
}

func TestACodeIsGoodOnceAndSoon(t *testing.T) {
	now := time.Unix(1111111111, 0)
	here := now.Unix() / 30
	code := func(shift time.Duration) string {
		c, err := Code(rfc, now.Add(shift))
		require.NoError(t, err)
		return c
	}
	for name, c := range map[string]struct {
		code string
		last int64
		ok   bool
	}{
		"of now":                       {code(0), 0, true},
		"as people type it":            {code(0)[:3] + " " + code(0)[3:], 0, true},
		"of the step before":           {code(-30 * time.Second), 0, true},
		"of the step after":            {code(30 * time.Second), 0, true},
		"too old":                      {code(-time.Minute), 0, false},
		"too early":                    {code(time.Minute), 0, false},
		"used":                         {code(0), here, false},
		"older than one that was used": {code(-30 * time.Second), here, false},
		"newer than one that was used": {code(30 * time.Second), here, true},
		"empty":                        {"", 0, false},
		"a digit too few":              {code(0)[:5], 0, false},
		"a digit too many":             {code(0) + "0", 0, false},
		"letters":                      {"abcdef", 0, false},
	} {
		_, ok := CodeStep(rfc, c.code, c.last, now)
		assert.Equal(t, c.ok, ok, name)
	}
}

func TestAnAppTakesTheCodesOver(t *testing.T) {
	codes := NewCodes()
	assert.NotEqual(t, codes, NewCodes())
	uri, picture, err := CodesURI(codes, "ines", "ferry.example")
	require.NoError(t, err)
	u, err := url.Parse(uri)
	require.NoError(t, err)
	assert.Equal(t, "otpauth", u.Scheme)
	assert.Equal(t, "totp", u.Host)
	assert.Equal(t, codes, u.Query().Get("secret"))
	assert.Contains(t, u.Path, "ines")
	assert.Contains(t, u.Query().Get("issuer"), "ferry.example")
	_, err = png.Decode(bytes.NewReader(picture))
	require.NoError(t, err)
	_, _, err = CodesURI("not base32!", "ines", "ferry.example")
	require.Error(t, err)
}

func TestWhatIsKeptOfAPassword(t *testing.T) {
	const password = "kolme venettä ja hinaaja"
	const secret = "JBSWY3DPEHPK3PXP"
	kept := Hash(password, secret)
	assert.True(t, strings.HasPrefix(kept, "$argon2id$v=19$m=32768,t=3,p=1$"), kept)
	assert.NotContains(t, kept, "kolme")
	assert.NotEqual(t, kept, Hash(password, secret), "each has a salt of its own")
	for name, c := range map[string]struct {
		kept, password string
		right          bool
	}{
		"right":            {kept, password, true},
		"another one":      {kept, password + " ", false},
		"none":             {kept, "", false},
		"of nobody":        {"", password, false},
		"of nobody, empty": {"", "", false},
	} {
		right, err := Verify(c.kept, c.password, secret)
		require.NoError(t, err, name)
		assert.Equal(t, c.right, right, name)
	}
	right, err := Verify(kept, password, "another secret")
	require.NoError(t, err)
	assert.False(t, right, "who has what is kept alone has nothing to try passwords with")
}

// What is kept is bounded in what it costs, whoever has written it.
func TestAHashThatCostsTooMuchIsNotTried(t *testing.T) {
	rest := "$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"
	for _, kept := range []string{
		"$argon2id$v=19$m=4194304,t=3,p=1" + rest, "$argon2id$v=19$m=32768,t=4000,p=1" + rest, "$argon2id$v=19$m=32768,t=3,p=200" + rest, "$argon2id$v=16$m=32768,t=3,p=1" + rest,
		"$argon2id$v=19$m=0,t=3,p=1" + rest, "$argon2id$v=19$m=32768,t=0,p=1" + rest, "$argon2i$v=19$m=32768,t=3,p=1" + rest, "$argon2id$v=19$m=32768,t=3,p=1$!$!", "$argon2id$v=19$m=32768,t=3,p=1$AAAA$!", "plain", "$$$$$",
	} {
		began := time.Now()
		_, err := Verify(kept, "x", "secret")
		require.Error(t, err, kept)
		assert.Less(t, time.Since(began), 5*time.Second)
	}
}

func TestWhichPasswordsAreTaken(t *testing.T) {
	for password, why := range map[string]string{
		"":                               "0 characters",
		"short":                          "5 characters",
		"elevenchars":                    "11 characters",
		"password1234":                   "guessed",
		"qwertyuiopas":                   "guessed",
		"123456789012":                   "guessed",
		"aaaaaaaaaaaaaaaaaa":             "guessed",
		"ines-ines-ines":                 "guessed",
		"steadyferrysteadyferry":         "guessed",
		strings.Repeat("x1!q", 33):       "132 characters",
		"\xff\xfe\xfd 123456789012":      "no text",
		"kolmivaihe sokeri 12":           "",
		"correct horse battery":          "",
		"Ähtäri ja 七つの海を渡る":              "",
		"Tq7#vR2!mZ9x":                   "",
		"northlight box 7 is very cold ": "",
	} {
		err := CheckPassword(password, "ines")
		if why == "" {
			assert.NoError(t, err, password)
		} else {
			assert.ErrorContains(t, err, why, password)
		}
	}
}

// A long password is judged in bounded time, and one of bytes that are no text is not judged at all.
func FuzzCheckPassword(f *testing.F) {
	f.Add("kolmivaihe sokeri 12", "ines")
	f.Add(strings.Repeat("ab", 64), "")
	f.Add("19900101 qwerty passw0rd", "passw0rd")
	f.Fuzz(func(t *testing.T, password, name string) {
		began := time.Now()
		_ = CheckPassword(password, name)
		if took := time.Since(began); took > 3*time.Second {
			t.Fatalf("%d bytes took %s", len(password), took)
		}
	})
}
