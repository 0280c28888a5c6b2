package seen

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"hen-roost/internal/core/declare"
	"hen-roost/internal/core/drift"
	"hen-roost/internal/core/model"
	"hen-roost/internal/core/resolve"
	"hen-roost/internal/service/servicetest"
)

// What is remembered of comparisons keeps within its bound, whoever compares
// what at the same time, and what is no longer declared is given back.
func TestMemory(t *testing.T) {
	schemas := map[string]model.Schema{"tern": (&servicetest.Tern{}).Schema()}
	d, err := declare.Read(servicetest.Files, schemas)
	if err != nil {
		t.Fatal(err)
	}
	plan, err := resolve.Resolve(d, schemas, time.Now(), nil)
	if err != nil {
		t.Fatal(err)
	}
	m := newMemory(10_000)
	var wg sync.WaitGroup
	for i := range 400 {
		wg.Go(func() {
			known, done := m.of(fmt.Sprintf("t%d", i%40))
			defer done()
			drift.Compare(drift.Input{Desired: plan.Targets["arctic"], Known: known,
				Accounts: []model.Object{{Kind: model.Account, Name: "marit", Linked: true,
					Attributes: model.Attributes("").With(model.Number, "1001").
						With(model.FullName, "Marit Fell").With(model.Disabled, "no")}}})
		})
	}
	wg.Wait()
	size, bytes := len(m.at), 0
	for e := m.order.Front(); e != nil; e = e.Next() {
		bytes += e.Value.(*remembered).bytes
	}
	if m.bytes != bytes || bytes > m.most || bytes < m.most/2 || size != m.order.Len() {
		t.Errorf("%d targets are remembered in %d bytes, counted as %d", size, bytes, m.bytes)
	}
	m.keep(func(string) bool { return false })
	if m.bytes != 0 || len(m.at) != 0 || m.order.Len() != 0 {
		t.Errorf("%d bytes are kept of what is not declared", m.bytes)
	}
}
