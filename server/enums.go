package server

import (
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/overlap"
	"dravin/core/route"
	"dravin/core/sheet"
	"dravin/core/status"
	"dravin/core/walk"
)

// enums publishes which values the core's named strings have, so that no client
// lists them by hand.
func enums(api huma.API) {
	schemas := api.OpenAPI().Components.Schemas
	schemas.RegisterTypeAlias(reflect.TypeFor[design.Kind](), reflect.TypeFor[kindOf]())
	schemas.RegisterTypeAlias(reflect.TypeFor[finding.Severity](), reflect.TypeFor[severityOf]())
	schemas.RegisterTypeAlias(reflect.TypeFor[sheet.Agreement](), reflect.TypeFor[verdictOf]())
	schemas.RegisterTypeAlias(reflect.TypeFor[status.Cause](), reflect.TypeFor[codeOf]())
	schemas.RegisterTypeAlias(reflect.TypeFor[design.Side](), reflect.TypeFor[Side]())
	schemas.RegisterTypeAlias(reflect.TypeFor[overlap.Weight](), reflect.TypeFor[weightOf]())
	schemas.RegisterTypeAlias(reflect.TypeFor[walk.Code](), reflect.TypeFor[stopOf]())
	schemas.RegisterTypeAlias(reflect.TypeFor[route.StopCode](), reflect.TypeFor[haltOf]())
	schemas.RegisterTypeAlias(reflect.TypeFor[ProblemCode](), reflect.TypeFor[problemCodeOf]())
	schemas.RegisterTypeAlias(reflect.TypeFor[design.FieldType](), reflect.TypeFor[fieldTypeOf]())
}

type (
	kindOf     string
	severityOf string
	verdictOf  string
	codeOf     string
	weightOf   string
	stopOf     string
	haltOf     string

	problemCodeOf string

	fieldTypeOf string
)

func oneOf[T ~string](doc string, list []T) *huma.Schema {
	values := make([]any, len(list))
	for n, v := range list {
		values[n] = string(v)
	}
	return &huma.Schema{Type: huma.TypeString, Enum: values, Description: doc}
}

// Schema lists the kinds of objects.
func (kindOf) Schema(huma.Registry) *huma.Schema { return oneOf("What an object is.", design.Kinds()) }

// Schema lists the severities.
func (severityOf) Schema(huma.Registry) *huma.Schema {
	return oneOf("How bad a finding is, worst first.", finding.Severities)
}

// Schema lists the verdicts of a sheet's lines.
func (verdictOf) Schema(huma.Registry) *huma.Schema {
	return oneOf("How a line of a two-ended sheet stands.", sheet.Verdicts)
}

// Schema lists why something can be down.
func (codeOf) Schema(huma.Registry) *huma.Schema { return oneOf("Why it is down.", status.Causes) }

// Schema lists the weights of overlap groups.
func (weightOf) Schema(huma.Registry) *huma.Schema {
	return oneOf("How bad the group is, worst first.", overlap.Weights)
}

// Schema lists the types of values.
func (fieldTypeOf) Schema(huma.Registry) *huma.Schema {
	return oneOf("How a value is written.", design.FieldTypes)
}

// Schema lists the stops of a walk.
func (stopOf) Schema(huma.Registry) *huma.Schema { return oneOf("What stops a packet.", walk.Codes) }

// Schema lists what keeps a route from going further.
func (haltOf) Schema(huma.Registry) *huma.Schema {
	return oneOf("What keeps a route from going further.", route.StopCodes)
}

// Schema lists what can be wrong with a request.
func (problemCodeOf) Schema(huma.Registry) *huma.Schema {
	return oneOf("What is wrong with a request.", ProblemCodes)
}
