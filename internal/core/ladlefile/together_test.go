package ladlefile

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/fault"
)

// part is a small ladle file.
func part(t *testing.T, path, input, block, more string) *File {
	t.Helper()
	f, err := Decode(path, []byte("ladle: 1\ninputs: {"+input+": {file: x.csv}}\ntables: {"+block+": {from: "+input+
		", key: none, columns: {name: N}}}\n"+more))
	require.NoError(t, err)
	return f
}

func TestLadleFilesBecomeOne(t *testing.T) {
	a := part(t, "port/calls.ladle.yaml", "calls", "vessel", "checks: [{claim: one, no_rows: select 1}]\n")
	b := part(t, "port/register.ladle.yaml", "register", "vessel", "checks: [{claim: two, no_rows: select 2}]\n")
	c := part(t, "port/pilots.ladle.yaml", "pilots", "pilot", "")
	all, err := Together([]*File{a, b, c})
	require.NoError(t, err)
	var inputs, blocks, tables, written, claims []string
	for _, in := range all.Inputs {
		inputs = append(inputs, in.Name.Value)
	}
	for _, b := range all.Blocks {
		blocks, tables, written = append(blocks, b.Name.Value), append(tables, b.Table().Value), append(written, b.Written())
	}
	for _, c := range all.Claims {
		claims = append(claims, c.Says.Value)
	}
	assert.Equal(t, []string{"calls", "register", "pilots"}, inputs)
	assert.Equal(t, []string{"vessel", "vessel (register)", "pilot"}, blocks)
	assert.Equal(t, []string{"vessel", "vessel", "pilot"}, tables, "a block that is called otherwise fills the same table")
	assert.Equal(t, []string{"vessel", "vessel", "pilot"}, written, "advice names what stands in the file")
	assert.Equal(t, []string{"one", "two"}, claims)
	assert.Equal(t, "vessel", b.Blocks[0].Name.Value, "the files themselves stay as they are")
	assert.Equal(t, "port/calls.ladle.yaml, port/register.ladle.yaml, port/pilots.ladle.yaml", all.Title())
	assert.Equal(t, "calls.ladle.yaml, register.ladle.yaml, pilots.ladle.yaml", all.Base())
	assert.Equal(t, "port/calls.ladle.yaml", a.Title())

	again, err := Together([]*File{a, b, c})
	require.NoError(t, err)
	assert.Equal(t, all.Sum, again.Sum)
	turned, err := Together([]*File{b, a, c})
	require.NoError(t, err)
	assert.NotEqual(t, all.Sum, turned.Sum, "the logbook tells one order from the other")
}

func TestLadleFilesThatDontGoTogether(t *testing.T) {
	first := part(t, "port/calls.ladle.yaml", "calls", "vessel", "set_aside_limit: 2%\n")
	for name, c := range map[string]struct {
		path, input, more, says string
	}{
		"another folder": {"quay/b.ladle.yaml", "b", "set_aside_limit: 2%\n",
			"quay/b.ladle.yaml: ladle files that are loaded together must be in one folder"},
		"another limit": {"port/b.ladle.yaml", "b", "", "set_aside_limit: is 0 here, and 2% in port/calls.ladle.yaml"},
		"another form of set-aside files": {"port/b.ladle.yaml", "b", "set_aside_limit: 2%\nset_aside_as: workbook\n",
			"set_aside_as: is not the same as in port/calls.ladle.yaml"},
		"an input of that name": {"port/b.ladle.yaml", "calls", "set_aside_limit: 2%\n",
			"port/b.ladle.yaml:2:10: port/calls.ladle.yaml has an input calls too"},
		"the same file": {"port/./calls.ladle.yaml", "calls", "set_aside_limit: 2%\n", "this ladle file is given twice"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Together([]*File{first, part(t, c.path, c.input, "pilot", c.more)})
			require.Error(t, err)
			assert.Equal(t, fault.Wrong, fault.ClassOf(err))
			assert.Contains(t, err.Error(), c.says)
		})
	}
}
