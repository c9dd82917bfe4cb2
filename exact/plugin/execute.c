/* A program that executes another one goes on in the emulator: the emulator itself would leave
 * it to the system. */
#define _GNU_SOURCE
#include "execute.h"

#include <elf.h>
#include <fcntl.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "api.h"
#include "code.h"
#include "store.h"

static int machine; /* that this emulator runs programs of, as their headers have it */
static char emulator[PATH_MAX], plugin[PATH_MAX + 3200];

void *guest(uint64_t address)
{
	return (void *)(uintptr_t)(address + guest_base);
}

void execute_by(const char *folder, int processor, const char *further)
{
	char own[PATH_MAX] = "";
	char line[PATH_MAX + 100];
	ssize_t n = readlink("/proc/self/exe", emulator, sizeof(emulator) - 1);
	FILE *f = fopen("/proc/self/maps", "re");

	machine = processor;
	emulator[n > 0 ? n : 0] = 0;
	/* The plugin's own file is the one that this function is in. */
	while (f && fgets(line, sizeof(line), f)) {
		unsigned long start, end;
		int at = 0;

		if (sscanf(line, "%lx-%lx %*4s %*x %*s %*s %n", &start, &end, &at) >= 2 && at && (uintptr_t)execute_by >= start && (uintptr_t)execute_by < end) {
			line[strcspn(line, "\n")] = 0;
			snprintf(own, sizeof(own), "%.*s", (int)sizeof(own) - 1, line + at);
		}
	}
	if (f)
		fclose(f);
	snprintf(plugin, sizeof(plugin), "%s,folder=%s%s%s", own, folder, *further ? "," : "", further);
}

/* emulated reports whether a file is a program that this emulator runs as the system would. */
static int emulated(const char *path)
{
	Elf64_Ehdr h = {0};
	struct stat st;
	int fd = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK), good;

	if (fd < 0)
		return 0;
	good = fstat(fd, &st) == 0 && S_ISREG(st.st_mode) && !(st.st_mode & (S_ISUID | S_ISGID)) && access(path, X_OK) == 0 && read(fd, &h, sizeof(h)) == sizeof(h);
	close(fd);
	return good && memcmp(h.e_ident, ELFMAG, SELFMAG) == 0 && h.e_ident[EI_CLASS] == ELFCLASS64 && h.e_machine == machine;
}

/* script reads the interpreter of a script, with its one argument. */
static int script(const char *path, char *line, size_t size, char **interpreter, char **argument)
{
	int fd = open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
	ssize_t n = fd < 0 ? -1 : read(fd, line, size - 1);

	if (fd >= 0)
		close(fd);
	if (n < 3 || line[0] != '#' || line[1] != '!' || access(path, X_OK) != 0)
		return 0;
	line[n] = 0;
	line[strcspn(line, "\n")] = 0;
	*interpreter = line + 2 + strspn(line + 2, " \t");
	*argument = *interpreter + strcspn(*interpreter, " \t");
	if (**argument) {
		*(*argument)++ = 0;
		*argument += strspn(*argument, " \t");
	}
	for (size_t k = strlen(*argument); k > 0 && ((*argument)[k - 1] == ' ' || (*argument)[k - 1] == '\t'); k--)
		(*argument)[k - 1] = 0;
	return **interpreter == '/';
}

void leave_for(void)
{
	tables.head->ended = LEFT;
}

void execute(uint64_t path_at, uint64_t arguments, uint64_t environment)
{
	enum { OWN = 8, SCRIPTS = 4 };
	const char *path = guest(path_at), *own;
	char line[SCRIPTS][PATH_MAX];
	uint64_t *words = guest(arguments), *names = guest(environment);
	size_t n = 0, m = 0, k = 0;
	char **out, **env;

	/* The emulator's own file stands there for the system, and the program's for the program. */
	if (strcmp(path, "/proc/self/exe") == 0 && (own = qemu_plugin_path_to_binary()))
		path = own;
	while (arguments && words[n])
		n++;
	while (environment && names[m])
		m++;
	out = calloc(n + OWN + 2 * SCRIPTS, sizeof(*out));
	env = calloc(m + 1, sizeof(*env));
	if (!out || !env)
		return;
	/* In front of the arguments stand those of interpreters, the last script's first. */
	char *before[2 * SCRIPTS];
	size_t before_n = 0;
	const char *program = path, *first = n ? guest(words[0]) : path;
	for (int i = 0; i < SCRIPTS && !emulated(program); i++) {
		char *interpreter, *argument;

		if (!script(program, line[i], sizeof(line[i]), &interpreter, &argument))
			break;
		memmove(before + 1 + (*argument != 0), before, before_n * sizeof(*before));
		size_t at = 0;
		if (*argument)
			before[at++] = argument;
		before[at++] = (char *)program;
		before_n += at;
		program = interpreter;
		first = interpreter;
	}
	if (!emulated(program)) {
		free(out);
		free(env);
		leave_for();
		return;
	}
	out[k++] = emulator;
	out[k++] = "-cpu";
	out[k++] = "max";
	out[k++] = "-0";
	out[k++] = (char *)first;
	out[k++] = "-plugin";
	out[k++] = plugin;
	out[k++] = (char *)program;
	for (size_t i = 0; i < before_n; i++)
		out[k++] = before[i];
	for (size_t i = 1; i < n; i++)
		out[k++] = guest(words[i]);
	for (size_t i = 0; i < m; i++)
		env[i] = guest(names[i]);
	tables.head->ended = EXECUTED;
	execve(emulator, out, env);
	tables.head->ended = RUNNING;
	free(out);
	free(env);
}
