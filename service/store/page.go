package store

import (
	"cmp"
	"slices"

	"gorm.io/gorm"
)

// Page chooses records by their IDs, or their numbers in a case if they have some: at most Most of those after one, the first ones, or the latest
// ones. They are listed oldest first.
type Page struct {
	After  int64
	Latest bool
	Most   int

	column string // id if it is empty
}

// by chooses by another column.
func (p Page) by(column string) Page {
	p.column = column
	return p
}

// paged lists a page of what a query chooses.
func paged[T any](query *gorm.DB, p Page, what string) (list []T, err error) {
	column := cmp.Or(p.column, "id")
	order := column
	if p.Latest {
		order += " desc"
	}
	err = query.Where(column+" > ?", p.After).Order(order).Limit(p.Most).Find(&list).Error
	if p.Latest {
		slices.Reverse(list)
	}
	return list, translate(err, what)
}
