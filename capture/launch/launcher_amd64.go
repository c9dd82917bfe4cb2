package launch

import _ "embed"

//go:generate clang-14 -O2 -static -nostdlib -ffreestanding -fno-stack-protector -fno-pie -Wall -isystem /usr/include/x86_64-linux-gnu -Wl,--build-id=none,-n,-s,-z,noexecstack -o launcher_amd64 programs/launcher.c

// launcher is the program that becomes a command, made by `make generate`.
//
//go:embed launcher_amd64
var launcher []byte
