package source

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/fault"
)

// TestAnEncodingThatIsntCertainIsAQuestion: the file is refused with the line in which its readings differ.
func TestAnEncodingThatIsntCertainIsAQuestion(t *testing.T) {
	filler := strings.Repeat("7,Anna\n", 70_000)
	cases := []struct {
		name, content string
		line          int64
		could         []string // the first of the readings
	}{
		{"a western letter", "id,name\n1,H\xe4fler\n2,Anna\n", 2, []string{"windows-1252 (1,Häfler)"}},
		{"a Polish one", "id,name\n1,Anna\n2,Gda\xf1sk\n", 3, []string{"windows-1250 (2,Gdańsk)"}},
		{"of DOS", "id,name\n1,M\x81ller\n", 2, []string{"IBM437 (1,Müller)"}},
		{"Korean", "id,name\n1,\xba\xce\xbb\xea\n", 2, []string{"EUC-KR (1,부산)"}},
		{"behind much ASCII", "id,name\n" + filler + "2,M\xe9duse\n", 70_002, []string{"windows-1252 (2,Méduse)"}},
		{"two lines that tell three apart", "id,name\n1,H\xe4fler\n2,Gda\xf1sk\n", 3,
			[]string{"windows-1250 (2,Gdańsk)", "windows-1252 (2,Gdañsk)"}},
		{"a long line", "id,name\n1," + strings.Repeat("x", 99) + " H\xe4fler " + strings.Repeat("y", 99) + "\n", 2,
			[]string{"…xxxxxxxxxxxxxx Häfler yyyyyyyy"}},
		{"valid UTF-8 by chance", "id,name\n1,\xc1\xaa\xcd\xa8\n2,\xc1\xaa\xcd\xa8\n", 2, nil},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			table, err := open(t, c.content, ReadOptions{Header: HeaderLines{First: 1, Last: 1}})
			if err == nil {
				_, err = records(table)
			}
			require.Error(t, err)
			assert.Equal(t, fault.Refused, fault.ClassOf(err))
			var u *UnclearEncoding
			require.True(t, errors.As(OfInput(err, "in"), &u))
			assert.Equal(t, "in", u.Input)
			assert.Equal(t, c.line, u.Could[0].Lines[0].Line)
			require.LessOrEqual(t, len(u.Could), 3)
			assert.Contains(t, err.Error(), "set encoding: to the right one")
			said := strings.ReplaceAll(err.Error(), `"`, "")
			for _, reading := range c.could {
				assert.Contains(t, said, reading)
			}
		})
	}
}

// TestEscapesOfISO2022JP: seven-bit Japanese is no ASCII; another escape is a character like others.
func TestEscapesOfISO2022JP(t *testing.T) {
	table, err := open(t, "a,b\n1,\x1b$B9A\x1b(B\n2,x\n", comma)
	require.NoError(t, err)
	got, err := records(table)
	require.NoError(t, err)
	assert.Equal(t, []string{"2: 1|港", "3: 2|x"}, got)
	assert.Equal(t, "ISO-2022-JP", table.Formats()[0].Encoding.Value)
	table, err = open(t, "a,b\n1,\x1b[31mred\n2,été Größe\n", comma)
	require.NoError(t, err)
	got, err = records(table)
	require.NoError(t, err)
	assert.Equal(t, []string{"2: 1|\x1b[31mred", "3: 2|été Größe"}, got)
}
