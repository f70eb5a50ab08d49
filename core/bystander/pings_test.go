package bystander

import (
	"bufio"
	"fmt"
	"net"
	"testing"
	"testing/synctest"
	"time"

	"paceduel/core/clock"
	"paceduel/core/shots"
)

// A ping waits for as long as the worker is held up, whatever else comes over the line; several are under way at once.
func TestPings(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		const held = 70 * time.Millisecond
		p := NewPings(clock.Start())
		ours, theirs := net.Pipe()
		go func() {
			in := bufio.NewScanner(theirs)
			for n := 0; in.Scan(); n++ {
				time.Sleep(held)
				fmt.Fprintf(theirs, "bells\n\n99999\n18446744073709551616\n%s\n", in.Text())
			}
		}()
		var shot shots.Shot
		if p.Clients(1)[0].Shoot(t.Context(), &shot); shot.Class != shots.Refused {
			t.Errorf("without a worker: %s %v", shot.Class, shot.Err)
		}
		p.Take(ours)
		both := make([]shots.Shot, 2)
		done := make(chan struct{})
		for i, c := range p.Clients(2) {
			go func() {
				c.Shoot(t.Context(), &both[i])
				done <- struct{}{}
			}()
		}
		<-done
		<-done
		first, second := both[0].Latency(), both[1].Latency()
		if both[0].Class != shots.OK || both[1].Class != shots.OK || min(first, second) != held ||
			max(first, second) != 2*held {
			t.Errorf("%v after %s, %v after %s", both[0].Err, first, both[1].Err, second)
		}
		go func() {
			time.Sleep(held / 2)
			theirs.Close()
		}()
		shot = shots.Shot{}
		if p.Clients(1)[0].Shoot(t.Context(), &shot); shot.Class != shots.Reset || shot.Latency() != held/2 {
			t.Errorf("with a worker that goes: %s %v after %s", shot.Class, shot.Err, shot.Latency())
		}
		synctest.Wait()
		shot = shots.Shot{}
		if p.Clients(1)[0].Shoot(t.Context(), &shot); shot.Class != shots.Refused {
			t.Errorf("after the worker: %s %v", shot.Class, shot.Err)
		}
		time.Sleep(held) // until the worker has seen it
	})
}

// One that never ends a line is let go of.
func TestAPingWithoutAnEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := NewPings(clock.Start())
		ours, theirs := net.Pipe()
		p.Take(ours)
		go func() {
			bufio.NewReader(theirs).ReadString('\n')
			theirs.Write(make([]byte, 10*longestPing))
		}()
		var shot shots.Shot
		if p.Clients(1)[0].Shoot(t.Context(), &shot); shot.Class != shots.Reset {
			t.Errorf("%s %v", shot.Class, shot.Err)
		}
		theirs.Close()
	})
}
