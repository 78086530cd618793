package store

import (
	"slices"

	"gorm.io/gorm"
)

// Page chooses records by their IDs: at most Most of those after an ID, the first ones, or the latest ones. They are listed oldest first.
type Page struct {
	After  int64
	Latest bool
	Most   int
}

// paged lists a page of what a query chooses.
func paged[T any](query *gorm.DB, p Page, what string) (list []T, err error) {
	order := "id"
	if p.Latest {
		order = "id desc"
	}
	err = query.Where("id > ?", p.After).Order(order).Limit(p.Most).Find(&list).Error
	if p.Latest {
		slices.Reverse(list)
	}
	return list, translate(err, what)
}
