package stage

import "dravin/core/rehearsal"

// callsEvery is after how many rounds a player asks again for a tunnel that it starts and that was refused: its daemon
// asks once, and a cloud goes on asking.
const callsEvery = 8

// asksAgain lets players ask again for what they start and do not have.
func (l *live) asksAgain(children map[string]map[string][]child) {
	if l.rounds++; l.rounds%callsEvery != 0 {
		return
	}
	for k, w := range l.laid() {
		l.mu.Lock()
		idle := len(l.pairs[k]) == 0 && !l.cut[k]
		l.mu.Unlock()
		for _, e := range w.Ends {
			n := l.node(e.Node)
			if !idle || !e.Starts || n.Role != rehearsal.Player || len(children[e.Node][e.Connection]) > 0 {
				continue
			}
			if sas, err := n.streams("list-sas", "list-sa", map[string]string{"ike": e.Connection}); err != nil || len(sas) > 0 {
				continue // it is asking, or not there yet
			}
			for _, c := range e.Children {
				// A refusal is no error here: it is asked again.
				_, _ = n.asksIPsec("initiate", map[string]string{"child": c, "timeout": "-1"})
			}
			l.mu.Lock()
			l.refused[k] = true
			l.mu.Unlock()
		}
	}
}
