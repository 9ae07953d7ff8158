package formula_test

import (
	"fmt"

	"ladle/internal/core/formula"
)

// A formula is compiled once, and run by a machine for each row.
func ExampleCompile() {
	columns := []formula.Column{{Name: "Dues", Plain: "dues", Kind: formula.Number}, {Name: "Rebate",
		Plain: "rebate", Kind: formula.Number}}
	f, err := formula.Compile("round(dues - coalesce(rebate, 0), 2)", columns)
	if err != nil {
		fmt.Println(err)
		return
	}
	dues, rebate := &formula.Value{Kind: formula.Number}, &formula.Value{Kind: formula.Number, Blank: true}
	dues.Number.SetString("120.505")
	machine := formula.NewMachine(len(columns))
	machine.Set(0, dues)
	machine.Set(1, rebate)
	result, err := machine.Run(f)
	fmt.Println(f.Kind(), result, err)

	_, err = formula.Compile("deus * 2", columns)
	fmt.Println(err)
	// Output:
	// number 120.51 <nil>
	// can't be computed: there is no column "deus" (at character 1 of deus * 2); did you mean "dues"?
}
