package people

import (
	"crypto/ed25519"
	"testing"
	"time"
)

func TestChallenge(t *testing.T) {
	key, now := []byte("a secret of the server's"), time.Now()
	c, err := NewChallenge(key, now)
	if err != nil {
		t.Fatal(err)
	}
	if err := Challenged(key, c, now.Add(challengeFor/2)); err != nil {
		t.Error(err)
	}
	flipped := []byte(c)
	flipped[3] ^= 1
	for name, bad := range map[string]error{
		"too late":         Challenged(key, c, now.Add(challengeFor+time.Second)),
		"from the future":  Challenged(key, c, now.Add(-10*time.Minute)),
		"another server's": Challenged([]byte("another"), c, now),
		"changed":          Challenged(key, string(flipped), now),
		"empty":            Challenged(key, "", now),
	} {
		if bad == nil {
			t.Errorf("%s: it was taken", name)
		}
	}
}

// TestSignatures: one is good for one text of one key, and for nothing else.
func TestSignatures(t *testing.T) {
	pub, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	other, _, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	text := SessionText("perf.shop.example:7420", "press-2", "c")
	s := Sign(private, text)
	if !Signed(KeyText(pub), text, s) {
		t.Error("its own signature was refused")
	}
	for name, taken := range map[string]bool{
		"another key":    Signed(KeyText(other), text, s),
		"another server": Signed(KeyText(pub), SessionText("evil.example", "press-2", "c"), s),
		"another name":   Signed(KeyText(pub), SessionText("perf.shop.example:7420", "press-1", "c"), s),
		"another use":    Signed(KeyText(pub), RenewalText("press-2", other), s),
		"no key":         Signed("", text, s),
		"no signature":   Signed(KeyText(pub), text, ""),
	} {
		if taken {
			t.Errorf("%s: it was taken", name)
		}
	}
}
