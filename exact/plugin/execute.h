#pragma once

#include <stdint.h>

/* guest is where the program's own address lies in this process. */
void *guest(uint64_t address);

/* execute_by keeps what another program is to be run by. */
void execute_by(const char *folder, int machine, const char *further);

/* leave_for says that the system may put a program in this one's place that is not counted. What
 * goes on after that has not been replaced, and says so by its next system call. */
void leave_for(void);

/* execute runs another program in place of this one, as the program asked for, in the emulator
 * again; what the emulator cannot run is left to the system. */
void execute(uint64_t path, uint64_t arguments, uint64_t environment);
