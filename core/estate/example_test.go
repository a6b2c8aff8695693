package estate_test

import (
	"fmt"
	"strings"

	"wideknot/core/estate"
)

func ExampleRead() {
	_, _, err := estate.Read(strings.NewReader("wideknot: 1\nestate: {name: Vale}\nsites:\n  - {key: mill, name: Mill, region: vale}\n"))
	fmt.Println(err)
	// Output: line 4, column 37 (sites[0].region): there is no region "vale"
}

func ExampleReadSheets() {
	empty := &estate.Estate{Format: estate.Format}
	reading := estate.ReadSheets(empty, estate.Sheets{
		Sites:   "key;name\nmill;Mill\n",
		Subnets: "site;prefix\nmill;10.40.1.9/24\nmile;10.40.2.0/24\n",
	}, nil)
	for _, r := range reading.Remarks {
		fmt.Printf("%s, row %d, %s: %s\n", r.Sheet, r.Row, r.Column, r.Message)
	}
	// Output:
	// subnets, row 2, prefix: host bits were set: 10.40.1.9/24 became 10.40.1.0/24
	// subnets, row 3, site: there is no site "mile", neither in the estate nor in the sites sheet
}
