package bpf

// The programs are C, in the folder programs, one concern a file; the objects and the
// types that they share with Go are made by `make generate` and committed, so that who
// builds or runs this needs no compiler for them.

//go:generate go run github.com/cilium/ebpf/cmd/bpf2go -cc clang-14 -strip llvm-strip-14 -target bpfel -no-global-types -type record_header -type record_kind -type go_label -type label_bound -type scratch_slot -type go_places stacks programs/stacks.c -- -O2 -mcpu=v3 -Wall -Wno-unused-function -isystem /usr/include/x86_64-linux-gnu
//go:generate go run github.com/cilium/ebpf/cmd/bpf2go -cc clang-14 -strip llvm-strip-14 -target bpfel -no-global-types -type python_places -type python_entry -type python_code -type python_bound -type python_call frames programs/python.c -- -O2 -mcpu=v3 -Wall -Wno-unused-function -isystem /usr/include/x86_64-linux-gnu
//go:generate go run github.com/cilium/ebpf/cmd/bpf2go -cc clang-14 -strip llvm-strip-14 -target bpfel -no-global-types -type call_key -type count_control count programs/count.c -- -O2 -mcpu=v3 -Wall -isystem /usr/include/x86_64-linux-gnu
//go:generate go run github.com/cilium/ebpf/cmd/bpf2go -cc clang-14 -strip llvm-strip-14 -target bpfel -no-global-types -type tally_key -type tally -type tally_open -type tally_wait -type tally_control -type tally_flag -type tally_bound -type routine_key -type routine -type routine_record -type span_open -type span_key -type descriptor_place -type file_bound -type event_bound -type memory_part -type disk_request tally programs/tally.c -- -O2 -mcpu=v3 -Wall -Wno-unused-function -isystem /usr/include/x86_64-linux-gnu
//go:generate go run github.com/cilium/ebpf/cmd/bpf2go -cc clang-14 -strip llvm-strip-14 -target bpfel -no-global-types -type member_state members programs/members.c -- -O2 -mcpu=v3 -Wall -Wno-unused-function -isystem /usr/include/x86_64-linux-gnu
