package bpf

import (
	"errors"
	"fmt"
	"sync"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/btf"
	"github.com/cilium/ebpf/link"
)

// Members are the processes that belong to a collection, with all that they start. The
// programs of other objects look there; it is kept by those of a Tally or, without one, by
// its own.
type Members struct {
	maps struct {
		Members *ebpf.Map `ebpf:"members"` // a state by process
		Missed  *ebpf.Map `ebpf:"members_missed"`
	}
	types    *btf.Spec
	programs []*ebpf.Program
	links    []link.Link
}

// membersObject is the object's content, which is read once and copied for each use.
var membersObject = sync.OnceValues(loadMembers)

// newMembers makes the maps; unused says that nobody looks there.
func newMembers(types *btf.Spec, unused bool) (*Members, error) {
	spec, err := membersObject()
	if err != nil {
		return nil, err
	}
	spec = spec.Copy()
	if unused {
		spec.Maps[membersMapMembers].MaxEntries = 1
	}
	m := &Members{types: types}
	if err := spec.LoadAndAssign(&m.maps, nil); err != nil {
		return nil, fmt.Errorf("making the list of processes: %w", err)
	}
	return m, nil
}

// Add has a process belong; armed, from when it begins another program.
func (m *Members) Add(pid uint32, armed bool) error {
	state := membersMemberStateMEMBER_BELONGS
	if armed {
		state = membersMemberStateMEMBER_ARMED
	}
	return m.maps.Members.Put(pid, uint32(state))
}

// Follow has what the members start belong, too.
func (m *Members) Follow() error {
	spec, err := membersObject()
	if err != nil {
		return err
	}
	spec = spec.Copy()
	c, err := ebpf.NewCollectionWithOptions(spec, ebpf.CollectionOptions{
		MapReplacements: m.shared(spec), Programs: ebpf.ProgramOptions{KernelTypes: m.types},
	})
	if err != nil {
		return fmt.Errorf("loading the programs that follow processes: %w", err)
	}
	defer c.Close()
	for name, at := range map[string]string{membersProgMemberFork: "sched_process_fork", membersProgMemberExec: "sched_process_exec", membersProgMemberExit: "sched_process_exit"} {
		p := c.DetachProgram(name)
		m.programs = append(m.programs, p)
		l, err := link.AttachRawTracepoint(link.RawTracepointOptions{Name: at, Program: p})
		if err != nil {
			return fmt.Errorf("following processes at %s: %w", at, err)
		}
		m.links = append(m.links, l)
	}
	return nil
}

// shared are the maps as another object knows them, which is told how large they are.
func (m *Members) shared(spec *ebpf.CollectionSpec) map[string]*ebpf.Map {
	spec.Maps[membersMapMembers].MaxEntries = m.maps.Members.MaxEntries()
	return map[string]*ebpf.Map{membersMapMembers: m.maps.Members, membersMapMembersMissed: m.maps.Missed}
}

// Missed returns for how many processes there was no room.
func (m *Members) Missed() (n uint64, err error) {
	err = m.maps.Missed.Lookup(uint32(0), &n)
	return n, err
}

// close removes its programs and maps.
func (m *Members) close() error {
	var errs []error
	for _, l := range m.links {
		errs = append(errs, l.Close())
	}
	for _, p := range m.programs {
		errs = append(errs, p.Close())
	}
	return errors.Join(append(errs, closeMaps(m.maps.Members, m.maps.Missed))...)
}
