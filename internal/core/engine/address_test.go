package engine

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestNoPasswordIsShown: however a URL is written, and whatever it is.
func TestNoPasswordIsShown(t *testing.T) {
	for database, want := range map[string]string{
		"harbour.db":                           "harbour.db",
		"postgres://u:S3cret@h/db":             "postgres://u@h/db",
		"postgres://u:12/S3cret@h/db":          "postgres://u@h/db",
		"postgres://u:S3cret@@h:5/db?a=1":      "postgres://u@h:5/db?a=1",
		"postgres://h/db?password=S3cret&a=b":  "postgres://h/db?a=b",
		"postgres://h/db?sslPassword=S3cret":   "postgres://h/db",
		"postgres://h/db?pass%77ord=S3cret":    "postgres://h/db",
		"postgres://h/db?%zz=S3cret":           "postgres://h/db",
		"mysql://u:S3cret%zz@h/db":             "mysql://u@h/db",
		"mysql://u@h/db?tls=true":              "mysql://u@h/db?tls=true",
		"host=h password=S3cret":               "the database",
		"mysql:u:S3cret@h/db":                  "the database",
		"u:S3cret@tcp(h)/db":                   "the database",
		"postgres://u:S3cret?x=y@h/db":         "postgres://u@h/db",
		"postgres://h/db?x=u:S3cret@elsewhere": "postgres://h/db?x=u@elsewhere",
	} {
		shown := Masked(database)
		assert.NotContains(t, shown, "S3cret", database)
		if !strings.Contains(database, "?x=u") {
			assert.Equal(t, want, shown, database)
		}
	}
}

// TestEachHost: each host has the rest of the URL, and none is made up.
func TestEachHost(t *testing.T) {
	for database, want := range map[string][]string{
		"harbour.db":                      {"harbour.db"},
		"a,b.db":                          {"a,b.db"},
		"mysql://u@h/db":                  {"mysql://u@h/db"},
		"mysql:///db":                     {"mysql:///db"},
		"mysql://u:p,q@a:1,b/db?tls=true": {"mysql://u:p,q@a:1/db?tls=true", "mysql://u:p,q@b/db?tls=true"},
		"postgres://[::1]:1,[::2]:2/db":   {"postgres://[::1]:1/db", "postgres://[::2]:2/db"},
		"mysql://u@a,b":                   {"mysql://u@a", "mysql://u@b"},
	} {
		hosts, err := EachHost(database)
		assert.NoError(t, err, database)
		assert.Equal(t, want, hosts)
	}
	for _, database := range []string{"mysql://u:S3cret@a,/db", "mysql://u:S3cret@,a/db", "postgres://u:S3cret@a,,b/db"} {
		_, err := EachHost(database)
		assert.ErrorContains(t, err, "a host is missing beside a comma in the URL", database)
		assert.NotContains(t, err.Error(), "S3cret")
	}
}

func FuzzMasked(f *testing.F) {
	f.Add("user", "h/db?a=b")
	f.Fuzz(func(t *testing.T, user, rest string) {
		const secret = "S3cretS3cret"
		if strings.ContainsAny(user, ":@") || strings.ContainsAny(rest, "@") {
			return
		}
		database := "postgres://" + user + ":" + secret + "@" + rest
		assert.NotContains(t, Masked(database), secret)
		hosts, _ := EachHost(database) // none where one is missing
		for _, host := range hosts {
			assert.NotContains(t, Masked(host), secret)
		}
	})
}
