package engine

import (
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"

	"ladle/internal/core/fault"
)

// Masked is the name of a database, a path or a URL, as it may be shown: without a password, however badly it is
// written. What looks as if it held one, and is no URL, is not shown at all.
func Masked(database string) string {
	scheme, rest, isURL := strings.Cut(database, "://")
	if !isURL {
		if strings.Contains(database, "@") || strings.Contains(strings.ToLower(database), "password") {
			return "the database"
		}
		return database
	}
	at := strings.LastIndex(rest, "@")
	user, _, _ := strings.Cut(rest[:max(at, 0)], ":")
	behind, query, asks := strings.Cut(rest[at+1:], "?")
	shown := scheme + "://"
	if at >= 0 {
		shown += user + "@"
	}
	shown += behind
	var kept []string
	for p := range strings.SplitSeq(query, "&") {
		name, _, _ := strings.Cut(p, "=")
		plain, err := url.QueryUnescape(name)
		if err == nil && !strings.Contains(strings.ToLower(plain), "password") && !strings.Contains(plain, ":") {
			kept = append(kept, p)
		}
	}
	if asks && len(kept) > 0 {
		shown += "?" + strings.Join(kept, "&")
	}
	return shown
}

// EachHost lists the URLs of a database with several hosts, HOST:PORT,HOST:PORT, with one of them each. It is an error when
// one of several is missing: it would be this machine.
func EachHost(database string) (all []string, err error) {
	scheme, rest, isURL := strings.Cut(database, "://")
	at := strings.LastIndex(rest, "@") + 1
	hosts, behind := rest[at:], ""
	if end := strings.IndexAny(hosts, "/?"); end >= 0 {
		hosts, behind = hosts[:end], hosts[end:]
	}
	if !isURL || !strings.Contains(hosts, ",") {
		return []string{database}, nil
	}
	for host := range strings.SplitSeq(hosts, ",") {
		if host == "" {
			return nil, fault.At(fault.Wrong, fault.Problem{File: Masked(database), What: "a host is missing beside a comma in the URL",
				Do: "write HOST,HOST, or HOST:PORT,HOST:PORT"})
		}
		all = append(all, scheme+"://"+rest[:at]+host+behind)
	}
	return all, nil
}

// OnlyParameters is an error for a URL with a parameter that isn't among names.
func OnlyParameters(database string, u *url.URL, names ...string) error {
	for name := range u.Query() {
		if !slices.Contains(names, name) {
			return fault.At(fault.Wrong, fault.Problem{File: Masked(database),
				What: fmt.Sprintf("the URL has a parameter %q that ladle does not know", name),
				Do:   fault.DidYouMean(name, names)})
		}
	}
	return nil
}

// Local reports whether what is sent to a host stays on this machine: a socket, or the loopback.
func Local(host string) bool {
	if host == "" || strings.HasPrefix(host, "/") || host == "localhost" {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

// Unprotected says what a connection over the network lacks; "" when it lacks nothing.
func Unprotected(host string, encrypted, verified bool) string {
	switch {
	case Local(host) || encrypted && verified:
		return ""
	case encrypted:
		return "the certificate of " + host + " is not verified, so another server could pass itself off as this one"
	}
	return "the connection to " + host + " is not encrypted, so others on the network could read it"
}
