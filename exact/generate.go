package exact

//go:generate gcc -O2 -Wall -Wextra -Werror -Wno-missing-field-initializers -std=gnu17 -fPIC -shared -fvisibility=hidden -ffile-prefix-map=plugin=. -Wl,--build-id=none -s -o plugin/exact.so plugin/plugin.c plugin/code.c plugin/store.c plugin/starts.c plugin/execute.c plugin/parked.c plugin/part.c plugin/models.c -lpthread
