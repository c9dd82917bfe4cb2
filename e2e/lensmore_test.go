package e2e

import (
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

const lensComponent = `<script setup lang="ts">
import type { LensEmits, LensProps } from '../registry'

defineProps<LensProps>()
defineEmits<LensEmits>()
</script>

<template>
  <p data-test="total">{{ hot?.functions.length }} functions of {{ program }}</p>
</template>
`

// TestALensMore: a lens that is made up is a component and a line in the registry; it
// has its tab and its key, and is given what every lens is given.
func TestALensMore(t *testing.T) {
	web := t.TempDir()
	if b, err := exec.Command("cp", "-r", "../web/src", "../web/index.html", "../web/package.json", "../web/tsconfig.json", "../web/vite.config.ts", web).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, b)
	}
	modules, err := filepath.Abs("../web/node_modules")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(modules, filepath.Join(web, "node_modules")); err != nil {
		t.Fatal(err)
	}
	registry := filepath.Join(web, "src/lenses/registry.ts")
	b, err := os.ReadFile(registry)
	if err != nil {
		t.Fatal(err)
	}
	text := strings.Replace(string(b), "view: EventsLens },\n]", "view: EventsLens },\n  { name: 'total', text: 'Total', view: TotalLens },\n]", 1)
	text = strings.Replace(text, "\nimport ", "\nimport TotalLens from './total/TotalLens.vue'\nimport ", 1)
	if err := os.WriteFile(registry, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(web, "src/lenses/total"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(web, "src/lenses/total/TotalLens.vue"), []byte(lensComponent), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, command := range []string{"check", "build"} {
		run := exec.Command("npm", "run", "--silent", command)
		run.Dir = web
		if b, err := run.CombinedOutput(); err != nil {
			t.Fatalf("npm run %s: %v: %s", command, err, b)
		}
	}
	address := withFrontEnd(t, filepath.Join(web, "dist/app"))

	p := newPage(t)
	p.do("the take", chromedp.Navigate(address+"/takes/"+takeOf(t, "3.5.0")))
	p.until("the flame", `Number(document.querySelector('[data-test=flame]')?.dataset.frames) > 10`)
	p.until("its tab", `[...document.querySelectorAll('[role=tab]')].at(-1)?.innerText === 'Total'`)
	p.key("9")
	p.until("the lens", `/^[0-9]+ functions of engraved$/.test(document.querySelector('[data-test=total]')?.innerText ?? '')`)
	p.until("the address", `new URLSearchParams(location.search).get('lens') === 'total'`)
}

// withFrontEnd serves another front end before the server under test.
func withFrontEnd(t *testing.T, dist string) string {
	t.Helper()
	to, err := url.Parse(base)
	if err != nil {
		t.Fatal(err)
	}
	proxy := httputil.NewSingleHostReverseProxy(to)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case strings.HasPrefix(r.URL.Path, "/api/"):
			r.Host = to.Host
			proxy.ServeHTTP(w, r)
		case strings.HasPrefix(r.URL.Path, "/assets/"):
			http.ServeFile(w, r, filepath.Join(dist, filepath.Clean(r.URL.Path)))
		default:
			http.ServeFile(w, r, filepath.Join(dist, "index.html"))
		}
	}))
	t.Cleanup(s.Close)
	return s.URL
}
