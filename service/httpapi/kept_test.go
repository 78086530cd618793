package httpapi

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"wraithology/service/store"
)

func TestMentioned(t *testing.T) {
	t.Parallel()
	c := store.Case{}
	for i, name := range []string{"Ines", "Tomas", "Tomas Berg", "Åse-Marit", "O.K."} {
		c.Members = append(c.Members, store.Member{PersonID: int64(i + 1), Person: store.Person{Name: name}})
	}
	for text, want := range map[string][]int64{
		"@Ines": {1}, "see @Ines, @Ines and @Tomas.": {1, 2}, "@Tomas Berg looks": {3}, "@Tomas Bergen": {2}, "(@Åse-Marit)": {4}, "@O.K. then": {5}, "@Inesita": nil, "me@Ines": nil, "@ Ines": nil, "@": nil,
		"@Wren": nil, "@ines": nil, "**@Tomas**": {2}, "@@Ines": {1}, "": nil,
	} {
		_, ids := mentioned(c, text)
		assert.Equal(t, want, ids, text)
	}
}
