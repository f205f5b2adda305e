package siteside

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"strconv"
	"time"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/store"
)

// proofLimit is how long an agent listens for the nonce of a path proof.
const proofLimit = 10 * time.Second

// ProofTask asks an agent to listen on a port of its machine for a nonce that is sent to an external port.
type ProofTask struct {
	ID        int64
	Transport probe.Transport
	Port      int
	Nonce     string
	For       time.Duration
	Borrow    int // the external port that the router is asked to pass on for as long as it takes; 0: it does already
}

// ProofNews is what an agent says of a path proof.
type ProofNews struct {
	State   string // listening, arrived, failed or taken
	Problem string
	Address string // LAN address of the agent's machine, which the forward has to lead to
}

// PathProof is a path proof under way.
type PathProof struct {
	Task ProofTask
	news chan ProofNews
}

// News delivers what the agent says of the proof.
func (p *PathProof) News() <-chan ProofNews { return p.news }

// BeginProof asks the agent of a link to listen, as task says. end ends that.
func (s *Side) BeginProof(siteID, linkID int64, task ProofTask) (p *PathProof, end func()) {
	nonce := make([]byte, 16)
	_, _ = rand.Read(nonce) // never fails
	t := &s.tasks
	t.mu.Lock()
	defer t.mu.Unlock()
	t.lastID++
	task.ID, task.Nonce, task.For = t.lastID, hex.EncodeToString(nonce), proofLimit
	p = &PathProof{Task: task, news: make(chan ProofNews, 4)}
	if t.proofs[linkID] == nil {
		t.proofs[linkID] = map[int64]*PathProof{}
	}
	t.proofs[linkID][p.Task.ID] = p
	t.wakeSite(siteID)
	return p, func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		delete(t.proofs[linkID], p.Task.ID)
	}
}

// Listening waits until the agent listens, or says why it does not. Error: ErrNoAgent, after 20 s.
func (p *PathProof) Listening(ctx context.Context) (ProofNews, error) {
	ctx, cancel := context.WithTimeout(ctx, scanLimit)
	defer cancel()
	select {
	case n := <-p.news:
		return n, nil
	case <-ctx.Done():
		return ProofNews{}, ErrNoAgent
	}
}

// NoteProof takes in what an agent says of a path proof. Error: store.Missing for one that has ended.
func (s *Side) NoteProof(linkID, id int64, n ProofNews) error {
	s.tasks.mu.Lock()
	p := s.tasks.proofs[linkID][id]
	s.tasks.mu.Unlock()
	if p == nil {
		return store.Missing{Kind: "proof", Name: strconv.FormatInt(id, 10)}
	}
	select {
	case p.news <- n:
	default: // the receiver is gone or already has enough
	}
	return nil
}
