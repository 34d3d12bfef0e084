package machine_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zygos/internal/machine"
)

// talk is an agent that a test plays: it hears a message and says what it likes.
type talk struct {
	t     *testing.T
	port  net.Conn
	token *string // of the last order
}

func (a talk) say(kind byte, payload string) {
	if (kind == 'a' || kind == 's') && !strings.Contains(payload, "Token") && !strings.Contains(payload, `"Up"`) {
		payload = fmt.Sprintf(`{"Token":%q,`, *a.token) + payload[1:]
	}
	head := binary.BigEndian.AppendUint32([]byte{kind}, uint32(len(payload)))
	_, _ = a.port.Write(append(head, payload...)) // a host that went is tested too
}

func (a talk) hear() (kind byte, payload []byte) {
	var head [5]byte
	if _, err := io.ReadFull(a.port, head[:]); err != nil {
		return 0, nil
	}
	payload = make([]byte, binary.BigEndian.Uint32(head[1:]))
	_, err := io.ReadFull(a.port, payload)
	require.NoError(a.t, err)
	var o struct{ Token string }
	if json.Unmarshal(payload, &o) == nil && o.Token != "" {
		*a.token = o.Token
	}
	return head[0], payload
}

// played is a guest with an agent that answers each message as play does.
func played(t *testing.T, play func(a talk, kind byte, payload []byte)) *machine.Guest {
	ours, theirs := net.Pipe()
	g := machine.NewGuest(ours)
	t.Cleanup(func() { g.Close() })
	go func() {
		for a := (talk{t, theirs, new(string)}); ; {
			kind, payload := a.hear()
			if kind == 0 {
				return
			}
			play(a, kind, payload)
		}
	}()
	return g
}

func script(text string, timeout time.Duration) machine.Stage {
	return machine.Stage{Timeout: timeout, Steps: []machine.Step{{Name: "check", Script: &machine.Script{Content: []byte(text)}}}}
}

// What a guest says is passed on as from any machine, and how its script ended.
func TestGuestRunsScripts(t *testing.T) {
	g := played(t, func(a talk, kind byte, payload []byte) {
		var o struct {
			Steps []struct{ Script machine.Script }
		}
		require.NoError(t, json.Unmarshal(payload, &o))
		a.say('b', "")
		a.say('o', "one\ntw")
		a.say('e', "/run/zygos/steps/01: line 7: oops\n")
		a.say('o', "o\n"+string(o.Steps[0].Script.Content)+"\x1b[31mred")
		a.say('a', `{"Failed":{"Code":3}}`)
	})
	w := &bench{}
	err := g.Run(t.Context(), script("the script", 0), w)
	var failed *machine.StepError
	require.ErrorAs(t, err, &failed)
	require.Equal(t, machine.StepError{Name: "check", Code: 3, Line: 7}, *failed)
	require.ElementsMatch(t, []string{"0 out one", "0 out two", "0 out the scriptred", "0 err /run/zygos/steps/01: line 7: oops"}, w.lines)
	var out, errs bytes.Buffer
	code, err := g.Command(t.Context(), []string{"say", "it's"}, &out, &errs)
	require.NoError(t, err)
	require.Equal(t, 3, code)
	require.Equal(t, "one\ntwo\n#!/bin/sh\nexec say 'it'\\''s'\n\x1b[31mred", out.String())
}

// A script that hangs is stopped, and the guest goes on; a guest that goes away or says nonsense is said to be gone.
func TestGuestThatHangsOrGoes(t *testing.T) {
	g := played(t, func(a talk, kind byte, payload []byte) {
		switch {
		case kind == 'k':
			a.say('a', `{"Failed":{"Signal":"SIGKILL"}}`)
		case kind == 'l':
			a.say('s', `{"There":true,"Owner":"root:root"}`)
		case bytes.Contains(payload, []byte("bGVhdmU=")): // leave
			a.port.Close()
		}
	})
	err := g.Run(t.Context(), script("hang", 10*time.Millisecond), &bench{})
	require.EqualError(t, err, "check: it did not end within its timeout of 10ms; all its processes were stopped")
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(10*time.Millisecond, cancel)
	require.ErrorIs(t, g.Run(ctx, script("hang", 0), &bench{}), context.Canceled)
	seen, err := g.Look(t.Context(), "/etc/hostname")
	require.NoError(t, err)
	require.Equal(t, "root:root", seen.Owner)
	var gone *machine.GoneError
	require.ErrorAs(t, g.Run(t.Context(), script("leave", 0), &bench{}), &gone)
	require.ErrorAs(t, g.Run(t.Context(), script("hang", 0), &bench{}), &gone)

	g = played(t, func(a talk, kind byte, payload []byte) {
		_, _ = a.port.Write([]byte("o\xff\xff\xff\xff and so on"))
	})
	require.ErrorAs(t, g.Run(t.Context(), script("x", 0), &bench{}), &gone)
}

// Every word to and from a guest has an end: an agent that does not take an order, one that beats and never says what lies at a path, and
// one whose words wait for a reader that pauses.
func TestWordsToAGuestEnd(t *testing.T) {
	machine.SetSilence(t, 300*time.Millisecond)
	deaf, _ := net.Pipe()
	g := machine.NewGuest(deaf)
	var gone *machine.GoneError
	err := g.Run(t.Context(), script(strings.Repeat("x", 500<<10), 50*time.Millisecond), &bench{})
	require.ErrorAs(t, err, &gone)
	require.EqualError(t, gone, "the machine does not take what it is told")
	_, err = g.Look(t.Context(), "/etc/hostname")
	require.ErrorAs(t, err, &gone)

	beats := func(a talk) {
		for range 20 {
			a.say('b', "")
			time.Sleep(50 * time.Millisecond)
		}
	}
	g = played(t, func(a talk, kind byte, payload []byte) { go beats(a) })
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	_, err = g.Look(ctx, "/hangs")
	require.ErrorIs(t, err, context.DeadlineExceeded)

	g = played(t, func(a talk, kind byte, payload []byte) {
		if kind == 'r' {
			go func() {
				for range 10 {
					a.say('o', "text\n")
				}
				a.say('a', `{"Failed":{"Code":3}}`)
			}()
		}
	})
	slow := &slowly{pause: time.Second}
	code, err := g.Command(t.Context(), []string{"say"}, slow, io.Discard)
	require.NoError(t, err, "a reader that pauses is no silence of the guest")
	require.Equal(t, 3, code)
	require.Equal(t, strings.Repeat("text\n", 10), slow.String())
}

// slowly takes its time for the first write.
type slowly struct {
	bytes.Buffer
	pause time.Duration
}

func (s *slowly) Write(p []byte) (int, error) {
	time.Sleep(s.pause)
	s.pause = 0
	return s.Buffer.Write(p)
}

// A check is root in the machine: what answers in place of the agent, or to an order of before, is not believed.
func TestAnotherAgentIsNotBelieved(t *testing.T) {
	g := played(t, func(a talk, kind byte, payload []byte) {
		a.say('b', "the agent")
		a.say('a', `{"Token":"of an earlier order","Agent":"the agent"}`)
		a.say('a', fmt.Sprintf(`{"Token":%q,"Agent":"the agent","Failed":{"Code":3}}`, *a.token))
	})
	var failed *machine.StepError
	require.ErrorAs(t, g.Run(t.Context(), script("x", 0), &bench{}), &failed)
	require.Equal(t, 3, failed.Code)

	g = played(t, func(a talk, kind byte, payload []byte) {
		a.say('b', "the agent")
		a.say('b', "another one")
		a.say('a', fmt.Sprintf(`{"Token":%q,"Agent":"another one"}`, *a.token))
	})
	var gone *machine.GoneError
	require.ErrorAs(t, g.Run(t.Context(), script("x", 0), &bench{}), &gone)
	require.Contains(t, gone.Error(), "answers in its place")
}
