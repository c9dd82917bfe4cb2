package people

import (
	"strings"
	"testing"
)

func TestPasswords(t *testing.T) {
	const password = "graver and burnisher"
	a, err := Hash(password)
	if err != nil {
		t.Fatal(err)
	}
	b, err := Hash(password)
	if err != nil || a == b {
		t.Errorf("two hashes of one password are the same: %v", err)
	}
	if strings.Contains(a, password) || !strings.HasPrefix(a, "$argon2id$v=19$m=65536,t=3,p=4$") {
		t.Errorf("kept as %s", a)
	}
	if !Check(password, a) || !Check(password, b) || Check(password+" ", a) || Check("", a) || Check(password, "") || Check("", "") {
		t.Error("the wrong passwords are taken")
	}
	for _, broken := range []string{"x", "$argon2id$v=19$m=65536,t=3,p=4$$", "$argon2i$v=19$m=65536,t=3,p=4$AAAA$AAAA", "$argon2id$v=19$m=4294967296,t=3,p=4$AAAA$AAAA", strings.Replace(a, "t=3", "t=4", 1)} {
		if Check(password, broken) {
			t.Errorf("%q lets somebody in", broken)
		}
	}
	for _, bad := range []string{"", "short", strings.Repeat("x", 201)} {
		if _, err := Hash(bad); err == nil {
			t.Errorf("a password of %d letters was taken", len(bad))
		}
	}
}

func TestRoles(t *testing.T) {
	order := []Role{Look, Work, Collect}
	for i, a := range order {
		for j, b := range order {
			if a.May(b) != (i >= j) || Least(a, b) != order[min(i, j)] {
				t.Errorf("%s and %s", a, b)
			}
		}
	}
	if Role("").May(Look) || Role("owner").May(Look) {
		t.Error("no role at all may do something")
	}
	if _, err := ParseRole("root"); err == nil {
		t.Error("root is no role")
	}
}

func TestNames(t *testing.T) {
	for _, good := range []string{"Ada", "k. o'", "müller@shop", "a b"} {
		if err := CheckName(good); (err == nil) != (good != "k. o'") {
			t.Errorf("%q: %v", good, err)
		}
	}
	for _, bad := range []string{"", " a", "a\n", "a\x1b[31m", "a/b", strings.Repeat("x", 61), "a\u202eb"} {
		if CheckName(bad) == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

func TestSecrets(t *testing.T) {
	a, err := Secret()
	b, err2 := Secret()
	if err != nil || err2 != nil || a == b || len(a) != 43 || Digest(a) == Digest(b) || strings.Contains(Digest(a), a) {
		t.Errorf("%q %q %v %v", a, b, err, err2)
	}
}
