package main

import (
	"fmt"
	"net"

	"entelon/capture"
	"entelon/capture/told"
	"entelon/receive"
)

// receive begins to receive spans for a take, if that is asked for; what it returns ends that.
func (f *takeFlags) receive(o *capture.Options, say func(string)) (end func(), err error) {
	if f.spansAt == "" {
		return func() {}, nil
	}
	r, err := receive.Listen(f.spansAt, false)
	if err != nil {
		return nil, fmt.Errorf("--spans-at %s: %w", f.spansAt, err)
	}
	if host, _, err := net.SplitHostPort(r.Address()); err == nil && !net.ParseIP(host).IsLoopback() {
		say("anybody who reaches " + r.Address() + " can send spans to it")
	}
	o.Given = append(o.Given, receive.Endpoint+"=http://"+r.Address())
	began := r.Begin()
	o.Told = func(ended bool) told.Received {
		wait := receive.OnWay
		if !ended {
			wait = receive.Batch
			say(fmt.Sprintf("waiting %.0f seconds for spans that are still on their way", wait.Seconds()))
		}
		got, warnings := r.Since(began, wait)
		return told.Received{Spans: got.Spans, Warnings: warnings}
	}
	return func() {
		if err := r.Close(); err != nil {
			say("the receiver of spans: " + err.Error())
		}
	}, nil
}
