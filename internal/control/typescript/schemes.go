package typescript

import (
	"bytes"
	"encoding/json"
	"fmt"

	"metaplasis/internal/address"
)

// scheme is a scheme of addresses as the console has it, in one direction.
type scheme struct {
	Name       string              `json:"name"`
	Example    string              `json:"example"`
	Help       string              `json:"help"`
	Programmes bool                `json:"programmes"`
	Parameters []address.Parameter `json:"parameters"`
}

// Schemes writes the schemes of addresses of inputs and relays.
func Schemes() ([]byte, error) {
	var b bytes.Buffer
	b.WriteString("// The schemes of addresses, written by `make types` from package address. Do not edit.\n\n" +
		"/** A parameter in the query of an address. */\nexport interface Parameter {\n  name: string;\n  default?: string;\n  values?: string[];\n" +
		"  least?: number;\n  most?: number;\n  secret?: boolean;\n  help: string;\n}\n\n" +
		"/** A scheme of addresses. */\nexport interface Scheme {\n  name: string;\n  example: string;\n  help: string;\n  programmes: boolean;\n  parameters: Parameter[];\n}\n")
	for _, one := range []struct {
		name, doc string
		of        address.Direction
	}{{"inputSchemes", "what the service fetches or receives", address.Input}, {"relaySchemes", "where relays send to", address.Relay}} {
		list := []scheme{}
		for _, s := range address.In(one.of) {
			out := scheme{s.Name, s.Text[one.of].Example, s.Text[one.of].Help, s.Programmes, []address.Parameter{}}
			for _, p := range s.Parameters {
				if p.In(one.of) {
					out.Parameters = append(out.Parameters, p)
				}
			}
			list = append(list, out)
		}
		text, err := json.MarshalIndent(list, "", "  ")
		if err != nil {
			return nil, err
		}
		fmt.Fprintf(&b, "\n/** %s are %s. */\nexport const %s: Scheme[] = %s;\n", one.name, one.doc, one.name, text)
	}
	return b.Bytes(), nil
}
