package endpoint

import (
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var start = time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)

func TestWhatAnAnswerMeans(t *testing.T) {
	for status, wanted := range map[int]Verdict{
		200: Done, 202: Done, 204: Done,
		301: Again, 302: Again, 304: Again, 408: Again, 429: Again, 500: Again, 503: Again, 599: Again,
		400: Refused, 401: Refused, 404: Refused, 413: Refused, 422: Refused,
		410: Stop,
	} {
		assert.Equal(t, wanted, Judge(status), status)
	}
	for wanted, a := range map[string]Answer{
		"503 Service Unavailable: closed for today, after 12ms": {Status: 503, Phrase: "Service Unavailable", Body: "closed\n for  today\n", Took: 12 * time.Millisecond},
		"no route to host, after 0s":                            {Error: "no route to host"},
		"302 Found (it sends elsewhere), after 1s":              {Status: 302, Phrase: "Found", Error: "it sends elsewhere", Took: time.Second},
		"well, after 5ms":                                       {Took: 5 * time.Millisecond},
	} {
		assert.Equal(t, wanted, a.Says())
	}
}

func TestPausesGrowAndDiffer(t *testing.T) {
	for failures, most := range map[int]time.Duration{1: time.Second, 2: 2 * time.Second, 5: 16 * time.Second, 9: time.Minute, 5000: time.Minute} {
		for _, chance := range []float64{0, 0.5, 0.999} {
			pause := Pause(time.Second, time.Minute, failures, chance)
			assert.GreaterOrEqual(t, pause, most/2, failures)
			assert.Less(t, pause, most, failures)
		}
	}
}

func steady(failures int) time.Duration { return time.Duration(failures) * 10 * time.Second }

func at(seconds float64) time.Time { return start.Add(time.Duration(seconds * float64(time.Second))) }

func bad(seconds float64) Answer { return Answer{At: at(seconds), Status: 503} }

func good(seconds float64) Answer { return Answer{At: at(seconds), Status: 204} }

func TestABreakerOpensTriesAndCloses(t *testing.T) {
	var b Breaker
	may := func(seconds float64, wait time.Duration, probe bool) {
		t.Helper()
		w, p := b.Ask(at(seconds))
		assert.Equal(t, wait, w)
		assert.Equal(t, probe, p)
	}
	assert.False(t, b.Good(good(0)))
	for i := range failAfter - 1 {
		assert.False(t, b.Bad(bad(float64(1+i)), steady), "a few failures are no outage")
		may(4, 0, false)
	}
	assert.False(t, b.Good(good(4)))
	for i := range failAfter {
		assert.Equal(t, i == failAfter-1, b.Bad(bad(float64(5+i)), steady))
	}
	assert.Equal(t, at(5), b.FailingSince, "since the first of them")
	assert.Equal(t, at(4), b.LastGood)
	may(10, 8*time.Second, false)
	may(18, 0, true)
	may(18, time.Second, false) // one at a time
	b.Bad(bad(19), steady)
	assert.Equal(t, at(39), b.NextTry, "each try later than the one before")
	b.Bad(bad(20), steady) // one that was under way
	assert.Equal(t, at(39), b.NextTry)
	b.TryNow(at(21))
	may(21, 0, true)
	b.Cancel()
	may(21, 0, true)
	assert.True(t, b.Good(good(22)))
	assert.False(t, b.Failing())
	assert.EqualValues(t, firstRate, b.Rate())

	begun, now := 0, 22.0
	for ; now < 24; begun++ { // two seconds of as many as it lets through
		wait, _ := b.Ask(at(now))
		now += wait.Seconds()
		b.Good(good(now))
	}
	assert.InDelta(t, firstRate+2*firstRate, begun, 2)
	for i := range 30 {
		b.Good(good(24 + float64(i)))
	}
	assert.Zero(t, b.Rate(), "no limit any more")
}

func TestAPlaceIsLeftAloneForAsLongAsItAsks(t *testing.T) {
	var b Breaker
	a := bad(0)
	a.After = 90 * time.Second
	assert.True(t, b.Bad(a, steady), "at once, since it says so")
	wait, _ := b.Ask(at(1))
	assert.Equal(t, 89*time.Second, wait)
}

func TestNodesTakeOnWhatOthersHaveSeenLater(t *testing.T) {
	var here, there Breaker
	here.Good(good(0))
	for i := range failAfter {
		there.Bad(bad(float64(1+i)), steady)
	}
	here.Adopt(there.Health)
	assert.True(t, here.Failing())
	_, probe := there.Ask(at(30))
	require.True(t, probe)
	there.Good(good(31))
	here.Adopt(there.Health)
	assert.False(t, here.Failing())
	assert.EqualValues(t, firstRate, here.Rate(), "it begins slowly here too")
	old := Health{FailingSince: at(1), NextTry: at(40)}
	here.Adopt(old)
	assert.False(t, here.Failing(), "old news")
}

// Whatever comes, a breaker lets at most one through while the place fails, and never
// says that it fails after a success.
func TestABreakerUnderRandomNews(t *testing.T) {
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 1))
		var b Breaker
		now, probes := 0.0, 0
		for range 200 {
			now += r.Float64() * 20
			switch r.IntN(4) {
			case 0, 1:
				wait, probe := b.Ask(at(now))
				require.GreaterOrEqual(t, wait, time.Duration(0))
				if probe {
					require.True(t, b.Failing())
					probes++
				}
				require.LessOrEqual(t, probes, 1)
				require.False(t, b.Failing() && wait == 0 && !probe)
			case 2:
				b.Bad(bad(now), steady)
				probes = 0
				require.False(t, b.Failing() && b.NextTry.Before(at(now)) && b.Failures > 0 && b.Last.At.Equal(b.FailingSince))
			case 3:
				b.Good(good(now))
				probes = 0
				require.False(t, b.Failing())
			}
		}
	}
}

func TestWhenAMessageIsGivenUp(t *testing.T) {
	for name, c := range map[string]struct {
		stored, failing time.Time
		wanted          bool
	}{
		"old, failing for long":      {at(0), at(10), true},
		"new, failing for long":      {at(950), at(0), false},
		"old, failing since a while": {at(0), at(950), false},
		"old, not failing":           {at(0), time.Time{}, false},
	} {
		assert.Equal(t, c.wanted, GivesUp(at(1000), c.stored, c.failing, 100*time.Second), name)
		assert.False(t, GivesUp(at(1000), c.stored, c.failing, 0), name)
	}
}

func TestSecretsAreReadAndSignWithAllKeys(t *testing.T) {
	for secret, ok := range map[string]bool{
		"whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw": true, "a text that is as long as a key shall be": true,
		"short": false, "whsec_%": false, "whsec_c2hvcnQ=": false, "": false,
	} {
		_, err := Key(secret)
		assert.Equal(t, ok, err == nil, secret)
	}
	// The example of the specification.
	key, err := Key("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw")
	require.NoError(t, err)
	signed := "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE="
	assert.Equal(t, signed, Sign([][]byte{key}, "msg_p5jXN8AQM9LWM0D4loKWxJek", time.Unix(1614265330, 0), []byte(`{"test": 2432232314}`)))
	assert.Contains(t, Sign([][]byte{[]byte("another"), key}, "msg_p5jXN8AQM9LWM0D4loKWxJek", time.Unix(1614265330, 0), []byte(`{"test": 2432232314}`)), " "+signed)
}

func TestToWhichNetworksThingsAreSent(t *testing.T) {
	sorts := map[string][]string{
		Public:    {"1.1.1.1", "8.8.4.4", "172.32.0.1", "2606:4700::1111", "::ffff:1.1.1.1"},
		Loopback:  {"127.0.0.1", "127.9.9.9", "::1", "::ffff:127.0.0.1"},
		Private:   {"10.0.0.1", "172.16.0.1", "192.168.1.1", "fd00::1", "::ffff:10.1.2.3"},
		LinkLocal: {"169.254.169.254", "fe80::1", "fe80::1%eth0"},
		"special": {"0.0.0.0", "100.64.0.1", "192.0.2.7", "198.18.0.1", "224.0.0.1", "255.255.255.255", "::", "ff02::1", "2001:db8::1", "64:ff9b::a00:1", "2002:7f00:1::"},
	}
	for _, allowed := range networkNames {
		n, err := ParseNetworks(allowed)
		require.NoError(t, err)
		for of, addresses := range sorts {
			for _, a := range addresses {
				assert.Equal(t, of == allowed, n.Check(netip.MustParseAddr(a)) == nil, "%s where %s is allowed", a, allowed)
			}
		}
	}
	n, err := ParseNetworks("public, 10.20.0.0/16")
	require.NoError(t, err)
	assert.NoError(t, n.Check(netip.MustParseAddr("10.20.1.1")))
	err = n.Check(netip.MustParseAddr("10.21.1.1"))
	assert.ErrorContains(t, err, "10.21.1.1 is a private address, and this node sends to public,10.20.0.0/16 only")
	_, err = ParseNetworks("everywhere")
	assert.ErrorContains(t, err, "allowed: public")
}
