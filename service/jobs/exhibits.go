package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"reflect"
	"strings"
	"time"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/guard"
	"wraithology/core/replay"
	"wraithology/service/store"
)

// askAgain asks the exhibits of evidence again that were asked with other rules for masking: their answers may show what is secret now.
func (w *indexer) askAgain(ctx context.Context, e store.Evidence, r replay.Recording, rules string) error {
	list, err := w.store.ExhibitsToAsk(ctx, e.ID, rules)
	if err != nil {
		return err
	}
	for _, x := range list {
		answer, err := w.answer(ctx, e, r, x)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil { // what was asked for is masked now
			if answer, err = json.Marshal(api.Withheld{Withheld: "asked again with the rules for masking: " + err.Error()}); err != nil {
				return err
			}
		}
		if err := w.store.AnswerExhibit(ctx, x.ID, string(answer), rules); err != nil {
			return err
		}
	}
	return nil
}

func (w *indexer) answer(ctx context.Context, e store.Evidence, r replay.Recording, x store.Exhibit) (text []byte, err error) {
	q, ok := ask.Named(x.Question)
	if !ok {
		return nil, errors.New("the question is not known any more")
	}
	request := q.New()
	if err := ask.DecodeJSON(strings.NewReader(x.Request), request); err != nil {
		return nil, err
	}
	s := ask.Subject{Recording: r, Offset: time.Duration(e.ClockOffsetNs), Others: func(ctx context.Context) ([]ask.Other, error) { return w.others(ctx, e) }}
	err = guard.Do(func() error {
		answer, err := q.Run(ctx, s, reflect.ValueOf(request).Elem().Interface())
		if err == nil {
			text, err = json.Marshal(answer)
		}
		return err
	})
	return text, err
}

// others opens the other evidence of a case that is ready.
func (w *indexer) others(ctx context.Context, own store.Evidence) (list []ask.Other, err error) {
	all, err := w.store.EvidenceOf(ctx, own.CaseID)
	if err != nil {
		return nil, err
	}
	for _, e := range all {
		if e.ID == own.ID || e.State != api.StateReady {
			continue
		}
		x, _, err := w.open.Masked(ctx, e, nil)
		if err != nil {
			continue // other evidence is still useful
		}
		list = append(list, ask.Other{Name: e.Name, Recording: x, Offset: time.Duration(e.ClockOffsetNs)})
	}
	return list, nil
}
