package main

import "github.com/spf13/cobra"

func sendCommand() *cobra.Command  { return &cobra.Command{Use: "send"} }
func serveCommand() *cobra.Command { return &cobra.Command{Use: "serve"} }
func apiCommand() *cobra.Command   { return &cobra.Command{Use: "api"} }
