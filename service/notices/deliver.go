package notices

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"wraithology/api"
	"wraithology/core/fault"
	"wraithology/service/hooks"
	"wraithology/service/mail"
	"wraithology/service/store"
)

// Deliver sends a delivery. After an error it is to be tried again, unless it was the last attempt: then the delivery is given up, as it is
// at once if another attempt would be of no use.
func (b *Board) Deliver(ctx context.Context, id int64, isLast bool) error {
	d, list, err := b.store.DeliveryByID(ctx, id)
	if errors.Is(err, fault.NotFound) {
		return nil // deleted with its case, or with its receiver
	}
	if err != nil || d.SentAt != nil || d.GivenUpAt != nil {
		return err
	}
	isFinal := false
	switch {
	case len(list) == 0:
		return b.store.FailedDelivery(ctx, id, "the evidence is deleted", true)
	case d.Hook != nil:
		isFinal, err = b.deliverRequest(ctx, d, list)
	default:
		isFinal, err = b.deliverMail(ctx, d, list)
	}
	if err == nil {
		return b.store.SentDelivery(ctx, id)
	}
	if ctx.Err() != nil {
		return ctx.Err() // the service stops
	}
	isFinal = isFinal || isLast
	if noted := b.store.FailedDelivery(ctx, id, err.Error(), isFinal); noted != nil || isFinal {
		return noted
	}
	return err
}

func (b *Board) deliverMail(ctx context.Context, d store.Delivery, list []store.Notice) (isFinal bool, err error) {
	switch {
	case !isMember(d.Case, d.Person.ID):
		return true, errors.New("the person is no member of the case any more")
	case d.Person.Mail == "":
		return true, errors.New("the person has no mail address any more")
	case b.mail == nil:
		return false, errors.New("the service is not set up for mail any more")
	}
	for _, m := range d.Case.Members {
		if m.PersonID == d.Person.ID {
			d.Case.Name = m.Called
		}
	}
	err = b.mail.Send(ctx, b.message(d, list))
	return mail.IsFinal(err), err
}

func (b *Board) deliverRequest(ctx context.Context, d store.Delivery, list []store.Notice) (isFinal bool, err error) {
	if d.Hook.Ended != "" {
		return true, errors.New(d.Hook.Ended)
	}
	told := api.Told{Type: "notices"}
	for _, n := range list {
		told.Notices = append(told.Notices, b.Notice(n, d.Case.Name))
	}
	err = b.request(ctx, *d.Hook, d.Key, told)
	if hooks.IsGone(err) {
		return true, errors.Join(err, b.store.EndHook(ctx, d.Hook.ID, "the receiver answered that it is gone (410)"))
	}
	return false, err
}

func (b *Board) request(ctx context.Context, h store.Hook, key string, told api.Told) error {
	body, err := json.Marshal(told)
	if err != nil {
		return fmt.Errorf("write the request: %w", err)
	}
	return b.hooks.Send(ctx, h.URL, h.Secret, key, body, time.Now())
}

// Try sends a trial to a hook now.
func (b *Board) Try(ctx context.Context, h store.Hook, c store.Case, by store.Person, key string) error {
	n := store.Notice{Kind: api.NoticeTrial, Person: &by, At: time.Now(), Subject: "a trial of the webhook"}
	return b.request(ctx, h, key, api.Told{Type: "notices", Notices: []api.Notice{b.Notice(n, c.Name)}})
}
