package ladlefile_test

import (
	"fmt"

	"ladle/internal/core/ladlefile"
)

// Decode takes every scalar as it is written, and says where it stands.
func ExampleDecode() {
	file, err := ladlefile.Decode("harbour.ladle.yaml", []byte(`ladle: 1
inputs: {arrivals: {file: arrivals.csv}}
tables:
  port_call: {from: arrivals, columns: {berth_id: {from: Berth, lookup: berth.code}, remark: Remark}}
`))
	if err != nil {
		fmt.Println(err)
		return
	}
	block := file.Blocks[0]
	for _, c := range block.Columns {
		fmt.Printf("%s.%s, on line %d\n", block.Table().Value, c.Name.Value, c.Name.Line)
	}
	_, err = ladlefile.Decode("harbour.ladle.yaml", []byte("ladle: 1\ninputs: {arrivals: {file: arrivals.csv, haeder: "+
		"3}}\n"))
	fmt.Println(err)
	// Output:
	// port_call.berth_id, on line 4
	// port_call.remark, on line 4
	// harbour.ladle.yaml:2:41: an input has no key "haeder"; did you mean "header"?
}

// A Setting is advice that can be pasted as it stands.
func ExampleSetting() {
	s := ladlefile.Setting{At: []string{"inputs", "register", "columns"}, Under: "Type", Key: "recode",
		Value: []ladlefile.Pair{{Key: "Rope \"heavy\"", Value: "Rope"}, {Key: "no", Value: "null"}}}
	fmt.Println(s.Where())
	fmt.Println(s.YAML())
	// Output:
	// inputs: register: columns:
	// Type: {recode: {'Rope "heavy"': Rope, no: 'null'}}
}
