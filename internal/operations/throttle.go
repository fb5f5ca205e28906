package operations

import (
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"

	"metaplasis/internal/network"
)

// Bounds of guessing. What is wrong counts, against the network that it came from and the account that it was for; an
// account that is attacked stays open to networks from which it was signed in to before.
const (
	attemptSpan = 5 * time.Minute
	//limit:wrong passwords within a quarter of an hour | each network | 429
	maxAttempts = 10 // wrong passwords of one network within the span
	//limit:wrong passwords within that, from networks that it does not know | each account | 429 for networks that it does not know
	maxForAccount = 20 // for one account, from networks that it does not know
	//limit:networks that are remembered | all | the one that was quiet longest is forgotten
	maxNetworks = 4096
	//limit:accounts that are remembered | all | the one that was quiet longest is forgotten
	maxAccounts   = 4096
	knownNetworks = 4096
	networkKnown  = 90 * 24 * time.Hour
	//limit:tokens and keys that nobody knows, a second | all | 429, or the sender is refused
	maxLookups = 200 // tokens and keys that nobody knows, which the database is asked for, a second
	//limit:tokens and keys that nobody knows, a second | each network | 429, or the sender is refused
	maxLookupsEach = 20 // of one network
)

// throttle slows down guessing. What it remembers is bounded: the oldest goes first, so that a crowd of networks pushes
// out itself, and the accounts still count.
type throttle struct {
	networks, accounts *expirable.LRU[string, int]
	known              *expirable.LRU[string, struct{}]
}

func newThrottle() *throttle {
	return &throttle{networks: expirable.NewLRU[string, int](maxNetworks, nil, attemptSpan), accounts: expirable.NewLRU[string, int](maxAccounts, nil, attemptSpan),
		known: expirable.NewLRU[string, struct{}](knownNetworks, nil, networkKnown)}
}

func pairOf(host, account string) string { return account + "\x00" + host }

// try counts an attempt of a network for an account as a wrong one, and reports whether it may be made at all.
func (t *throttle) try(host, account string) bool {
	if add(t.networks, host, 1) > maxAttempts {
		return false
	}
	return add(t.accounts, account, 1) <= maxForAccount || t.known.Contains(pairOf(host, account))
}

// right takes back an attempt whose password was right. Others that were wrong go on counting.
func (t *throttle) right(host, account string) {
	add(t.networks, host, -1)
	add(t.accounts, account, -1)
	t.known.Add(pairOf(host, account), struct{}{})
}

func add(l *expirable.LRU[string, int], key string, n int) int {
	v, _ := l.Get(key)
	v = max(v+n, 0)
	l.Add(key, v)
	return v
}

// newLookups bounds how often the database is asked for secrets that nobody knows.
func newLookups() *network.Rate { return &network.Rate{Total: maxLookups, EachNetwork: maxLookupsEach} }
