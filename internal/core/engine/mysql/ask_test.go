package mysql

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestLocksOfAQuery: a table under each name that the query could use it by.
func TestLocksOfAQuery(t *testing.T) {
	there := map[string]bool{"berth": true, "port_call": true, "the quay": true}
	for query, want := range map[string]string{
		"select 1":                         "",
		"select id from berth":             "`berth` READ",
		"select id from berth where x = 1": "`berth` READ",
		"select b.id from berth b, port_call as c left join berth d on d.id = c.berth_id": "`berth` AS `b` READ, " +
			"`port_call` AS `c` READ, `berth` AS `d` READ",
		"select * from `the quay` as `q 1` union select * from harbour.berth x": "`the quay` AS `q 1` READ, " +
			"`berth` AS `x` READ",
		"with w as (select * from berth) select * from w join (port_call)":          "`berth` READ, `port_call` READ",
		"select 'from berth', \"join port_call\" -- from berth\nfrom port_call # x": "`port_call` READ",
		"select /* from berth */ id from BERTH group by id":                         "`BERTH` READ",
		"select 'it''s', 'a\\'b from berth' from port_call c":                       "`port_call` AS `c` READ",
	} {
		assert.Equal(t, want, strings.Join(locksFor(tokens(query), there), ", "), query)
	}
}

func TestAQueryPutsItsAnswerNowhere(t *testing.T) {
	for query, ok := range map[string]bool{"select 1": true, "select 'into'": true, "select `into` from berth": true,
		"select 1 into outfile '/tmp/x'": false, "select 1 INTO @x": false,
		"select 1 /*!50000 into outfile '/tmp/x' */": false, "select 1 /*M! into @x */": false,
		"select 1 --\t'\n into @x -- '": false, "select 1--1": true, "select 1 /* into */": true} {
		assert.Equal(t, ok, onlyReads(tokens(query)) == nil, query)
	}
}

func FuzzTokens(f *testing.F) {
	f.Add("select `a``b`, 'x\\'', \"y\" from berth -- z\n /* w */ # v")
	f.Add("'")
	f.Add("/*")
	f.Fuzz(func(t *testing.T, query string) {
		for _, token := range tokens(query) {
			assert.True(t, token.quoted || len(token.text) > 0)
		}
		_ = locksFor(tokens(query), map[string]bool{"berth": true})
	})
}
