package java

import (
	"errors"
	"fmt"
	"os"
	"path"
	"time"

	"golang.org/x/sys/unix"
)

// Attach has the machine open its socket, and waits for it.
func Attach(pid, own uint32, uid, gid int, root, socket string) error {
	ask := path.Join(root, "tmp", fmt.Sprintf(".attach_pid%d", own))
	f, err := os.OpenFile(ask, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil && !errors.Is(err, os.ErrExist) {
		return fmt.Errorf("asking the Java virtual machine to listen: %w", err)
	}
	if err == nil {
		defer os.Remove(ask)
		err = errors.Join(f.Chown(uid, gid), f.Close()) // it trusts only files of its own user
		if err != nil {
			return fmt.Errorf("asking the Java virtual machine to listen: %w", err)
		}
	}
	if err := unix.Kill(int(pid), unix.SIGQUIT); err != nil {
		return fmt.Errorf("asking the Java virtual machine to listen: %w", err)
	}
	for range 100 {
		time.Sleep(20 * time.Millisecond)
		if _, err := os.Stat(socket); err == nil {
			return nil
		}
	}
	return errors.New("the Java virtual machine does not answer")
}
