package exact

//go:generate gcc -O2 -flto -Wall -Wextra -Werror -Wno-missing-field-initializers -std=gnu17 -fPIC -shared -fvisibility=hidden -ffile-prefix-map=plugin=. -Wl,--build-id=none -s -o plugin/exact.so plugin/plugin.c plugin/thread.c plugin/follow.c plugin/goroutine.c plugin/parked.c plugin/count.c plugin/models.c plugin/part.c plugin/code.c plugin/starts.c plugin/store.c plugin/execute.c -lpthread
