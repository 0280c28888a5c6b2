package life

import (
	"context"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"time"

	"hen-roost/internal/core/model"
	"hen-roost/internal/service/declared"
	"hen-roost/internal/service/door"
	"hen-roost/internal/store"
)

// CertificateRequest asks for a client certificate.
type CertificateRequest struct {
	User    string
	Days    int // for which it is good; 0: a year
	Lasts   time.Duration
	Because string
}

const (
	certificateKind = "certificate"
	daysUsual       = 365
	daysMost        = 3 * 365
)

// RotateCertificate issues a client certificate of the service's own authority: its
// private key is sealed with it and handed over once. Somebody signs in with it on
// each target that takes such certificates; when all let it in, those issued before
// are withdrawn.
func (s *Life) RotateCertificate(ctx context.Context, who door.Operator, q CertificateRequest) (Rotated, error) {
	if q.Days == 0 {
		q.Days = daysUsual
	}
	if q.Days < 1 || q.Days > daysMost {
		return Rotated{}, door.Wrong("days", "%d days; a certificate is good for between 1 and %d", q.Days, daysMost)
	}
	c, err := s.forOne(ctx, who, q.User)
	if err != nil {
		return Rotated{}, err
	}
	because, err := door.Reason(q.Because)
	if err != nil {
		return Rotated{}, err
	}
	lasts, err := lasting(q.Lasts)
	if err != nil {
		return Rotated{}, err
	}
	accounts, err := s.certified(ctx, c, q.User)
	if err != nil {
		return Rotated{}, err
	}
	id, err := s.issue(ctx, who, c, q, accounts, because, lasts)
	if err != nil {
		return Rotated{}, err
	}
	s.enliven()
	l, err := s.LinkTo(context.WithoutCancel(ctx), who, id)
	return Rotated{Handovers: []Handover{l.Handover}, Links: []Linked{l}, Left: []LeftOut{},
		Words: fmt.Sprintf("a certificate for %s is issued, and good for %s", q.User, door.Count(q.Days, "day", "days"))}, err
}

// certified are a person's accounts on targets that take client certificates.
func (s *Life) certified(ctx context.Context, c *declared.Current, user string) (out []store.HandoverAccount, err error) {
	links, err := s.Store.LinksOf(ctx, user)
	for _, l := range links {
		d := c.Plan.Targets[l.Target]
		if d == nil {
			continue
		}
		if _, has := d.Schema.Find(model.Account, model.Certificate); has {
			out = append(out, store.HandoverAccount{Target: l.Target, Name: l.Name, State: store.HandedWaiting})
		}
	}
	return out, err
}

// issue makes a certificate, seals it, and notes it with its handover.
func (s *Life) issue(ctx context.Context, who door.Operator, c *declared.Current, q CertificateRequest, accounts []store.HandoverAccount,
	because string, lasts time.Duration) (id int64, err error) {
	authority, err := s.Authority(ctx)
	if err != nil {
		return 0, err
	}
	serial, err := door.NewSerial()
	if err != nil {
		return 0, err
	}
	now := s.Now()
	until := now.AddDate(0, 0, q.Days)
	person, _ := c.Plan.Person(q.User)
	bundle, err := authority.Issue(q.User, person.Mail, serial, now, until)
	if err != nil {
		return 0, err
	}
	seal, err := s.Sealed(bundle)
	if err != nil {
		return 0, err
	}
	seal.ID = rand.Text()
	err = s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		if id, err = tx.AddHandover(ctx, store.Handover{User: q.User, What: certificateKind, State: Made, Keeps: true, Sealed: seal.ID,
			Operator: who.Name, Because: because, MadeAt: now, Lasts: int(lasts / time.Second)}); err != nil {
			return nil, err
		}
		for i := range accounts {
			accounts[i].Handover = id
		}
		if err := errors.Join(tx.PutSealings(ctx, []store.Sealing{seal}, now), tx.AddHandoverAccounts(ctx, accounts),
			tx.AddCertificate(ctx, store.Certificate{Serial: serial.String(), Handover: id, User: q.User, Until: until})); err != nil {
			return nil, err
		}
		if len(accounts) == 0 { // there is nowhere to prove it
			if err := tx.AwaitHandover(ctx, id, now.Add(lasts)); err != nil {
				return nil, err
			}
			if _, err := tx.WithdrawCertificates(ctx, q.User, id, false, now); err != nil {
				return nil, err
			}
		}
		return []*store.Entry{{At: now, Kind: "handover", Operator: who.Name, User: q.User, Because: because,
			Words: fmt.Sprintf("made handover %d: a client certificate for %s, number %s, until %s", id, q.User, serial, day(until))}}, nil
	})
	return id, err
}

// certificateProved withdraws the certificates before one that all its targets let in.
func (s *Life) certificateProved(ctx context.Context, h store.Handover) error {
	return s.Write(ctx, func(tx *store.Tx) ([]*store.Entry, error) {
		n, err := tx.WithdrawCertificates(ctx, h.User, h.ID, false, s.Now())
		if err != nil || n == 0 {
			return nil, err
		}
		return []*store.Entry{{At: s.Now(), Kind: "handover", Operator: h.Operator, User: h.User, Because: h.Because,
			Words: "withdrew " + door.Count(int(n), "client certificate", "client certificates") + " issued before"}}, nil
	})
}

// AuthorityPEM is the certificate of the service's own authority, for targets to trust.
func (s *Life) AuthorityPEM(ctx context.Context) ([]byte, error) {
	a, err := s.Authority(ctx)
	if err != nil {
		return nil, err
	}
	return a.PEM(), nil
}

// WithdrawnList is the signed list of certificates that are let in no more, in PEM.
func (s *Life) WithdrawnList(ctx context.Context) ([]byte, error) {
	a, err := s.Authority(ctx)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.WithdrawnCertificates(ctx, s.Now())
	if err != nil {
		return nil, err
	}
	der, err := a.Withdrawn(list, s.Now())
	return pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der}), err
}
