package probe

import (
	"context"
	"net/netip"
	"slices"
	"sync"

	"wardicon/core/drift"
)

// Ask asks one question.
func (p *Prober) Ask(ctx context.Context, q drift.Question) drift.Answer {
	a := p.answer(ctx, q)
	a.Port = q.Port
	return a
}

func (p *Prober) answer(ctx context.Context, q drift.Question) drift.Answer {
	one := IKEv1Question{
		Marked:      q.Port == drift.PortNATT,
		Certificate: q.Certificate,
		Suites:      q.Suites,
		Group:       q.Group,
	}
	switch {
	case q.Untold != "":
		return drift.Answer{
			Protocol:  q.Protocol(),
			Method:    q.Method,
			Transport: q.Transport,
			Address:   q.At.String(),
			State:     drift.Unprobed,
			Fault:     q.Untold,
			Notes:     []string{},
		}
	case q.Method == drift.MethodIKEv2:
		return p.IKEv2(ctx, q.At, one.Marked, q.Suites)
	case q.Method == drift.MethodMain:
		return p.Main(ctx, q.At, one)
	case q.Method == drift.MethodAggressive:
		return p.Aggressive(ctx, q.At, one)
	case q.Method == drift.MethodBareL2TP:
		return p.L2TP(ctx, q.At)
	case q.Method == drift.MethodPPTP:
		return p.PPTP(ctx, q.At)
	case q.Method == drift.MethodSSTP:
		return p.SSTP(ctx, q.At, q.Name)
	default:
		return p.Tunnel(ctx, q.At, q.Transport, q.Wrapping, q.Name)
	}
}

// All asks one gateway all questions, some side by side: its addresses together get few packets a
// second nonetheless. What is asked for beside the record is asked last, where the gateway
// answered. What there is no time for is unprobed.
func (p *Prober) All(ctx context.Context, list []drift.Question) []drift.Answer {
	answers := make([]drift.Answer, len(list))
	own, back := p.at(addresses(list)...)
	defer back()
	p.each(list, func(i int) { answers[i] = p.Ask(ctx, list[i]) })
	p.each(list, func(i int) {
		q := list[i]
		if q.Suites = q.More; len(q.Suites) == 0 || answers[i].State != drift.Answered {
			return
		}
		if !own.mayOpen() { // it would take more for an attack
			for _, s := range q.More {
				answers[i].IKE.Unprobed = append(answers[i].IKE.Unprobed, s.String())
			}
			return
		}
		answers[i].Add(p.Ask(ctx, q))
	})
	return answers
}

// addresses are those of questions.
func addresses(list []drift.Question) (all []netip.Addr) {
	for _, q := range list {
		if a := q.At.Addr().Unmap(); !slices.Contains(all, a) {
			all = append(all, a)
		}
	}
	return all
}

// each does something for every question, some side by side.
func (p *Prober) each(list []drift.Question, do func(int)) {
	var all sync.WaitGroup
	free := make(chan struct{}, sideBySide)
	for i := range list {
		free <- struct{}{}
		all.Go(func() {
			defer func() { <-free }()
			do(i)
		})
	}
	all.Wait()
}
