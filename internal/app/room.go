package app

import (
	"strings"

	"zygos/internal/state"
	"zygos/internal/store"
)

// MakeRoom frees what a sweep needs to begin on a full disk, before the state is opened.
func MakeRoom(at Where) (list []state.Leftover) {
	w, err := Find(at)
	if err != nil {
		return nil
	}
	_ = w.LoadOrganisation() // it may say where the state is; whoever opens it says what is wrong
	for name, bytes := range state.Dir(w.State).MakeRoom() {
		list = append(list, state.Leftover{What: "unfinished download", Name: name, Bytes: bytes})
	}
	return list
}

// StillFull says in words that the disk of the state is full, and what takes the room; "" if it is not.
func (a *Session) StillFull() string {
	if store.Room(string(a.Dir)) > 0 {
		return ""
	}
	return "the disk of " + string(a.Dir) + " is nearly full; the largest there: " + a.Dir.Largest() + ". 'zygos prune' removes old versions"
}

// Explain says of an error for want of room what takes the room in the state; other errors pass.
func Explain(at Where, err error) error {
	if !state.IsFull(err) || strings.Contains(err.Error(), "zygos sweep") {
		return err
	}
	w, e := Find(at)
	if e != nil {
		return err
	}
	return state.Dir(w.State).Full(err)
}
