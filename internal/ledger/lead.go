package ledger

import (
	"context"
	"time"

	"aditus/internal/core/fault"
)

// Server is one of the servers that share a ledger.
type Server struct {
	Name    string // of its machine, as people know it
	Address string // where it is asked, for people; empty where it is not
	Key     string // the public key of its secrets: all servers of a line have the same
}

// Lead is who leads a ledger, as a server sees it that waits to.
type Lead struct {
	Server
	Since   time.Time     // when it took the lead
	Turn    int64         // the how manieth to lead it is
	Quiet   time.Duration // since when nothing was heard of it; it leads on until another one does
	Trouble error         // what keeps the server that waits from knowing, or from leading
}

// ErrDeposed means that another server leads, or may lead, since: nothing was recorded, and nothing may be done.
var ErrDeposed = fault.New(fault.ErrUnavailable, "this server does not lead any more")

// ErrUnreached means that the database that a ledger lies in does not answer, or did not in the middle of an answer.
var ErrUnreached = fault.New(fault.ErrUnavailable, "the database of the ledger does not answer")

// OpenAt opens the ledger of a data folder for writing, once it leads: at an address in PostgreSQL, or in the folder where there is none.
func OpenAt(address, folder string) (*Ledger, error) {
	if address == "" {
		return Open(folder, nil)
	}
	return Connect(address, folder, nil)
}

// OpenRecord opens the ledger of a data folder for reading, wherever it lies.
func OpenRecord(address, folder string) (*Ledger, error) {
	if address == "" {
		return OpenToRead(folder)
	}
	return Connect(address, "", nil)
}

// Lead waits until this server leads the ledger, which is at once where nobody else can. What it gives ends as soon as another one
// may lead, and whoever led must begin anew then, with what is on record. told is called now and then while it waits, and
// has it wait no more by an error; it may be nil.
func (l *Ledger) Lead(ctx context.Context, me Server, told func(Lead) error) (context.Context, error) {
	if told == nil {
		told = func(Lead) error { return nil }
	}
	leads, err := l.lead(ctx, me, told)
	if err != nil {
		return nil, err
	}
	return leads, l.begin()
}

// Leads tells why nothing may be done any more at any site: another server leads, or it cannot be found out that none does. Whoever
// acts asks right before.
func (l *Ledger) Leads(ctx context.Context) error { return l.leads(ctx) }
