package collecting

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"entelon/people"
	"entelon/server/api"
	"entelon/server/request"
	"entelon/store/database"
	"entelon/store/jobs"
)

// CollectorRoutes answers for collectors: how they are let in, and what they are given and bring.
type CollectorRoutes struct{ *request.Server }

// challengeSecret is the name of the secret that challenges are made with.
const challengeSecret = "challenges"

// enrolValid is how long a link for enrolling a collector is good.
const enrolValid = 24 * time.Hour

// Collectors answers GET /collectors.
func (s CollectorRoutes) Collectors(c *gin.Context) {
	list, err := s.Store.Collectors(c.Request.Context())
	if err != nil {
		s.Fail(c, err)
		return
	}
	out := api.CollectorsOut{Collectors: []api.CollectorOut{}}
	for _, x := range list {
		out.Collectors = append(out.Collectors, s.collectorOut(x))
	}
	c.JSON(http.StatusOK, out)
}

func (s CollectorRoutes) collectorOut(x jobs.Collector) api.CollectorOut {
	report := api.MachineReport{}
	if err := json.Unmarshal(x.Report, &report); err != nil {
		s.Options.Log.Error("the report of a collector cannot be read", "collector", x.Name, "error", err)
	}
	if report.Checks == nil {
		report.Checks = []api.MachineCheck{}
	}
	if report.Allows == nil {
		report.Allows = []string{}
	}
	out := api.CollectorOut{Name: x.Name, Here: time.Since(x.SeenAt) < request.HereWithin, Enrolled: x.PublicKey != "", EnrolledBy: x.EnrolledBy, Report: report}
	if x.SeenAt.Unix() > 0 {
		out.SeenAt = x.SeenAt.UTC().Format(time.RFC3339)
	}
	if x.EnrolledAt != nil {
		out.EnrolledAt = x.EnrolledAt.UTC().Format(time.RFC3339)
	}
	return out
}

// AddCollector makes a link by which one collector can enrol.
func (s CollectorRoutes) AddCollector(c *gin.Context) {
	var in api.CollectorNameIn
	if err := s.Read(c, &in, "the collector"); err != nil {
		s.Fail(c, err)
		return
	}
	if err := people.CheckName(in.Name); err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	secret, err := s.Store.AddCollectorLink(c.Request.Context(), in.Name, request.Who(c).Person.Name, enrolValid)
	if err == nil {
		err = request.SignInRoutes(s).Note(c, "link for a collector made", map[string]string{"collector": in.Name})
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, api.CollectorLinkOut{Name: in.Name, Path: "/enrol/" + secret, Hours: enrolValid.Hours()})
}

// RemoveCollector makes a collector's key useless. Its takes end with what has
// come of them.
func (s CollectorRoutes) RemoveCollector(c *gin.Context) {
	name := c.Param("name")
	open, err := s.Store.RemoveCollector(c.Request.Context(), name)
	if errors.Is(err, database.ErrNotFound) {
		err = request.NotThere(fmt.Errorf("there is no collector %q", name), "see the Machines page for those that there are")
	}
	if err == nil {
		err = request.SignInRoutes(s).Note(c, "collector removed", map[string]string{"collector": name})
	}
	for i := range open {
		if err == nil {
			_, err = s.deliver(c.Request.Context(), &open[i], jobs.Ended{Failed: "its collector was removed"})
		}
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// Enrol takes a collector's public key, by a link that works once.
func (s CollectorRoutes) Enrol(c *gin.Context) {
	var in api.EnrolIn
	if err := s.Read(c, &in, "the key"); err != nil {
		s.Fail(c, err)
		return
	}
	if _, err := people.ParseKey(in.PublicKey); err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	from := request.SignInRoutes(s).ByAddress(c)
	if !request.SignInRoutes(s).MayTry(c, from) {
		return
	}
	name, err := s.Store.EnrolByLink(c.Request.Context(), in.Link, in.PublicKey)
	if errors.Is(err, database.ErrNotFound) {
		request.SignInRoutes(s).Deny(c, "", "this link was used already, or is too old", "ask for a new one on the Machines page")
		return
	}
	if err == nil {
		err = request.SignInRoutes(s).Succeeded(c, from)
	}
	if err == nil {
		err = request.SignInRoutes(s).Note(c, "collector enrolled", map[string]string{"collector": name})
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.JSON(http.StatusOK, api.CollectorNameIn{Name: name})
}

// challengeKey is what challenges are made with, the same for all servers of a
// database. It is asked for once.
func (s CollectorRoutes) challengeKey(ctx context.Context) ([]byte, error) {
	if key := s.Challenges.Load(); key != nil {
		return *key, nil
	}
	key, err := s.Store.Secret(ctx, challengeSecret)
	if err == nil {
		s.Challenges.Store(&key)
	}
	return key, err
}

// Challenge gives a collector something to sign. Whether there is one of that
// name is not told.
func (s CollectorRoutes) Challenge(c *gin.Context) {
	key, err := s.challengeKey(c.Request.Context())
	if err != nil {
		s.Fail(c, err)
		return
	}
	text, err := people.NewChallenge(key, time.Now())
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.JSON(http.StatusOK, api.ChallengeOut{Challenge: text})
}

// BeginCollector begins a session for a collector that has signed a challenge.
func (s CollectorRoutes) BeginCollector(c *gin.Context) {
	var in api.CollectorSessionIn
	err := s.Read(c, &in, "the answer to the challenge")
	var key []byte
	if err == nil {
		key, err = s.challengeKey(c.Request.Context())
	}
	if err == nil {
		if old := people.Challenged(key, in.Challenge, time.Now()); old != nil {
			err = request.Bad(old)
		}
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	x, err := s.Store.CollectorNamed(c.Request.Context(), in.Name)
	if err != nil && !errors.Is(err, database.ErrNotFound) {
		s.Fail(c, err)
		return
	}
	if err != nil || !people.Signed(x.PublicKey, people.SessionText(c.Request.Host, in.Name, in.Challenge), in.Signature) {
		c.AbortWithStatusJSON(http.StatusUnauthorized, api.ErrorBody{Error: "this server does not know the collector's key", Remedy: "enrol it with a link from the Machines page"})
		return
	}
	secret, ends, err := s.Store.BeginCollectorSession(c.Request.Context(), in.Name)
	if err != nil {
		s.Fail(c, err)
		return
	}
	out := api.CollectorSessionOut{Secret: secret, Seconds: time.Until(ends).Seconds()}
	since := x.EnrolledAt
	if x.RenewedAt != nil {
		since = x.RenewedAt
	}
	out.Renew = since == nil || time.Since(*since) > renewAfter
	c.JSON(http.StatusOK, out)
}

// renewAfter is the age at which a collector is asked to make a new key.
const renewAfter = 30 * 24 * time.Hour

// RenewCollector replaces the key of the collector that asks.
func (s CollectorRoutes) RenewCollector(c *gin.Context) {
	var in api.CollectorKeyIn
	err := s.Read(c, &in, "the key")
	if err != nil {
		s.Fail(c, err)
		return
	}
	key, err := people.ParseKey(in.PublicKey)
	if err != nil {
		s.Fail(c, request.Bad(err))
		return
	}
	name := request.Who(c).Collector
	x, err := s.Store.CollectorNamed(c.Request.Context(), name)
	if err == nil && !people.Signed(x.PublicKey, people.RenewalText(name, key), in.Signature) {
		request.SignInRoutes(s).Refuse(c, "a new key is signed with the old one", "")
		return
	}
	if err == nil {
		err = s.Store.RenewCollector(c.Request.Context(), name, x.PublicKey, in.PublicKey)
	}
	if err == nil {
		err = request.SignInRoutes(s).Note(c, "collector's key renewed", map[string]string{"collector": name})
	}
	if err != nil {
		s.Fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
