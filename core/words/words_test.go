package words_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dravin/core/words"
)

func TestWords(t *testing.T) {
	for in, want := range map[string]string{
		"ASN of Millrace": "ASN of Millrace", "Key lifetime": "key lifetime", "IKE proposals": "IKE proposals", "": "",
		"A": "a",
	} {
		assert.Equal(t, want, words.Lower(in))
	}
	assert.Equal(t, "Two", words.Upper("two"))
	assert.Equal(t, "1 address", words.Count(1, "address", "addresses"))
	assert.Equal(t, "0 addresses", words.Count(0, "address", "addresses"))
	assert.Equal(t, "a, b and c", words.List([]string{"a", "b", "c"}))
	assert.Equal(t, "a and b", words.List([]string{"a", "b"}))
	assert.Equal(t, "have", words.Verb(2, "has", "have"))
}
