package serving

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strconv"
	"strings"
	"time"

	"entelon/store"
)

// tidyEvery is how often the server removes what is not to be kept any longer.
const tidyEvery = time.Hour

// days reads a time such as 90d or 36h; "" is none.
func days(flag, text string) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	if n, ok := strings.CutSuffix(text, "d"); ok {
		if v, err := strconv.ParseFloat(n, 64); err == nil && v >= 0 && v < 100_000 {
			return time.Duration(v * 24 * float64(time.Hour)), nil
		}
	} else if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return d, nil
	}
	return 0, fmt.Errorf("%s %q: write a time such as 90d or 36h", flag, text)
}

func (f *serveFlags) checkRetention() error {
	_, err1 := days("--keep-takes", f.keepFor)
	_, err2 := days("--keep-jobs", f.keepJobs)
	_, err3 := days("--keep-audit", f.keepLog)
	if f.keepN < 0 {
		return fmt.Errorf("--keep-per-build %d: give a number above 0", f.keepN)
	}
	return errors.Join(err1, err2, err3)
}

func (f *serveFlags) retention() store.Retention {
	r := store.Retention{PerBuild: f.keepN, Size: int64(f.keepSize)}
	r.Takes, _ = days("", f.keepFor) // these were checked
	r.Jobs, _ = days("", f.keepJobs)
	r.Audit, _ = days("", f.keepLog)
	return r
}

// tidyUp removes what is not to be kept any longer, at the start and every hour,
// and writes down what it removed.
func tidyUp(ctx context.Context, st *store.Store, r store.Retention, log *slog.Logger) {
	for {
		out, ok, err := st.Tidy(ctx, r)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			log.Error("tidying up", "error", err)
		case ok && out.Takes+out.Jobs+out.Lines > 0:
			log.Info("tidied up", "takes", out.Takes, "jobs", out.Jobs, "audit", out.Lines)
			if out.Takes > 0 {
				err := st.Note(ctx, "", "", "old takes removed", map[string]string{"number": fmt.Sprint(out.Takes), "keys": strings.Join(out.Keys[:min(len(out.Keys), 100)], " ")})
				if err != nil {
					log.Error("tidying up", "error", err)
				}
			}
		}
		sleep(ctx, tidyEvery)
	}
}

// refigure makes the figures that takes of an earlier Entelon lack.
func refigure(ctx context.Context, st *store.Store, log *slog.Logger) {
	made, unreadable, err := st.Refigure(ctx)
	switch {
	case ctx.Err() != nil:
	case err != nil:
		log.Error("the figures of earlier takes were not all made; the next start goes on", "made", made, "error", err)
	case made+unreadable > 0:
		log.Info("the figures of earlier takes were made", "takes", made, "unreadable", unreadable)
	}
}
