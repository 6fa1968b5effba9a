package pass

import (
	"fmt"

	"tollgate.example/key/internal/core/config"
	"tollgate.example/key/internal/wire/dict"
)

// Dictionary makes the dictionary of a configuration: the standard attributes and those of its vendors.
func Dictionary(vendors []*config.Vendor) (*dict.Dictionary, []config.Problem) {
	dictionary := dict.NewDictionary()
	var problems []config.Problem
	for _, v := range vendors {
		attributes := make([]dict.Attribute, 0, len(v.Attributes))
		for j := range v.Attributes {
			a := &v.Attributes[j]
			kind, known := dict.TypeByName(a.Type)
			if other := dictionary.ByName(a.Name); other != nil && other.Vendor == nil {
				problem := config.NewProblem(config.Taken, "%s is standard attribute %d", other.Name, other.Type)
				problems = append(problems, problem.On("vendor", v.Name, v.ID, fmt.Sprintf("attributes[%d].name", j),
					"Choose another name."))
				continue
			} else if !known || other != nil {
				continue // the check of the configuration has told
			}
			entry := dict.Attribute{Name: a.Name, Data: kind, Number: a.Number}
			if len(a.Values) > 0 {
				entry.Values = make(map[uint32]string, len(a.Values))
				for _, value := range a.Values {
					entry.Values[value.Number] = value.Name
				}
			}
			attributes = append(attributes, entry)
		}
		if err := dictionary.Add(dict.Enterprise{Number: v.Number, Name: v.Name, TypeOctets: v.TypeOctets,
			LengthOctets: v.LengthOctets}, attributes); err != nil {
			continue // two attributes of one name inside it, which the check has told
		}
	}
	return dictionary, problems
}
