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
	"wraithology/core/mask"
	"wraithology/core/replay"
	"wraithology/service/store"
)

// askAgain asks the exhibits of evidence again that were asked with other rules for masking: their answers may show what is secret now.
func (w *indexer) askAgain(ctx context.Context, e store.Evidence, r replay.Recording, m *mask.Mask) error {
	list, err := w.store.ExhibitsToAsk(ctx, e.ID, m.ID())
	if err != nil {
		return err
	}
	for _, x := range list {
		answer, err := w.answer(ctx, e, r, m, x)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil { // what was asked for is masked now
			if answer, err = json.Marshal(api.Withheld{Withheld: "asked again with the rules for masking: " + err.Error()}); err != nil {
				return err
			}
		}
		if err := w.store.AnswerExhibit(ctx, x.ID, string(answer), m.ID()); err != nil {
			return err
		}
	}
	return nil
}

func (w *indexer) answer(ctx context.Context, e store.Evidence, r replay.Recording, m *mask.Mask, x store.Exhibit) (text []byte, err error) {
	q, ok := ask.Named(x.Question)
	if !ok {
		return nil, errors.New("the question is not known any more")
	}
	request := q.New()
	if err := ask.DecodeJSON(strings.NewReader(x.Request), request); err != nil {
		return nil, err
	}
	s := ask.Subject{Recording: r, Offset: time.Duration(e.ClockOffsetNs), Others: func(ctx context.Context) ([]ask.Other, error) { return w.open.Others(ctx, e, m) }}
	err = guard.Do(func() error {
		answer, err := q.Run(ctx, s, reflect.ValueOf(request).Elem().Interface())
		if err == nil {
			text, err = json.Marshal(answer)
		}
		return err
	})
	return text, err
}
