package store

import (
	"context"
	"encoding/json"
	"fmt"

	"wraithology/core/mask"
)

// MaskOf returns the rules for masking of a case.
func (s *Store) MaskOf(ctx context.Context, caseID int64) (mask.Rules, error) {
	var c Case
	err := s.in(ctx).Table("cases_all").Select("mask").Where("id = ?", caseID).Take(&c).Error
	return c.Mask, translate(err, "case")
}

// SetMask sets the rules for masking of a case, and returns the evidence that is to be indexed again for that.
func (s *Store) SetMask(ctx context.Context, caseID int64, rules mask.Rules) (list []Evidence, err error) {
	text, err := json.Marshal(rules)
	if err != nil {
		return nil, fmt.Errorf("write the rules: %w", err)
	}
	if err := found(s.in(ctx).Exec("update cases set mask = ?::jsonb where id = ?", string(text), caseID), "case"); err != nil {
		return nil, err
	}
	return list, translate(s.in(ctx).Raw(askAgain+" where case_id = ? returning *", caseID).Scan(&list).Error, "evidence")
}
