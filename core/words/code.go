package words

// Coded is one of a family of stable codes, with what people and programs need to know of it.
// The interface, the documentation and the API take their words from these tables.
type Coded[T ~string] struct {
	Code  T
	Title string // in a word or two
	Doc   string // what it means
	Fix   string // what ends it; empty where that is a matter of judgement
}

// CodesOf are the codes of a family, in its order.
func CodesOf[T ~string](family []Coded[T]) []T {
	out := make([]T, len(family))
	for n, c := range family {
		out[n] = c.Code
	}
	return out
}
