package ledger

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"
)

// link is a fact as it is written, and what chains it to the one before: a sum over both. So nobody changes, removes or adds one
// without all that follow being other ones too.
type link struct {
	Seq, At        int64 // At in milliseconds since 1970
	Workload, Site string
	Rollout        int64
	Kind, By       string
	Revision, Text string
	Data           string
	Chain          string
}

// linkOf is a fact as it is written after another one's sum.
func linkOf(f Fact, before string) link {
	own := link{f.Seq, f.At.UnixMilli(), plain(f.Workload), plain(f.Site), f.Rollout, string(f.Kind), plain(f.By), string(f.Revision), plain(f.Text), string(f.Data), ""}
	own.Chain = own.sum(before)
	return own
}

// sum is SHA-256, in hexadecimal, over the sum of the fact before and this one's fields, as JSON.
func (l link) sum(before string) string {
	text, _ := json.Marshal([]any{before, l.Seq, l.At, l.Workload, l.Site, l.Rollout, l.Kind, l.By, l.Revision, l.Text, l.Data}) // plain values always marshal
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// Head is a fact by its number and its sum, which stands for all before it.
type Head struct {
	Seq   int64  `json:"seq"`
	Chain string `json:"chain"`
}

// Verified is what came of looking through all facts.
type Verified struct {
	Facts int64 `json:"facts"` // that are chained
	Older int64 `json:"older"` // that were written by a version that did not chain them
	Head  Head  `json:"head"`  // the last one
}

// Verify looks through all facts, and fails at the first that was changed, is missing, or was put between. known are heads that somebody noted
// elsewhere before: without one it cannot be told whether all of the chain was made anew.
func (l *Ledger) Verify(ctx context.Context, known ...Head) (v Verified, err error) {
	noted := map[int64]string{}
	for _, head := range known {
		noted[head.Seq] = head.Chain
	}
	var last link
	for first := true; ; {
		rows, err := l.ask(ctx, fmt.Sprintf(`SELECT seq, at, workload, site, rollout, kind, actor, revision, text, data, chain FROM facts WHERE seq > $1 ORDER BY seq LIMIT %d`, PageSize), last.Seq)
		page, err := collect(rows, err, func(rows *sql.Rows) (f link, err error) {
			var data sql.NullString
			err = rows.Scan(&f.Seq, &f.At, &f.Workload, &f.Site, &f.Rollout, &f.Kind, &f.By, &f.Revision, &f.Text, &data, &f.Chain)
			f.Data = data.String
			return f, err
		})
		if err != nil {
			return v, err
		}
		for _, f := range page {
			switch {
			case !first && f.Seq != last.Seq+1:
				return v, fmt.Errorf("%d facts are missing after fact %d", f.Seq-last.Seq-1, last.Seq)
			case f.Chain == "" && v.Facts > 0:
				return v, fmt.Errorf("fact %d is not chained, and those before it are: it was put there", f.Seq)
			case f.Chain == "":
				v.Older++
			case first && f.Seq > 1: // those before it were pruned, and their sum with them
				v.Facts++
			case f.Chain != f.sum(last.Chain):
				return v, fmt.Errorf("fact %d is not what was written, or the one before it is not: its sum does not fit", f.Seq)
			default:
				v.Facts++
			}
			if sum, is := noted[f.Seq]; is && sum != f.Chain {
				return v, fmt.Errorf("fact %d has another sum than was noted: all that is on record up to it may have been made anew", f.Seq)
			}
			delete(noted, f.Seq)
			first, last = false, f
		}
		if len(page) < PageSize {
			break
		}
	}
	v.Head = Head{last.Seq, last.Chain}
	for seq := range noted {
		if seq > last.Seq {
			return v, fmt.Errorf("fact %d was noted, and the last one is %d: what came after that is missing", seq, last.Seq)
		}
	}
	return v, nil
}
