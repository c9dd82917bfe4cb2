// Package api holds the bodies of requests and answers, a file for each area of the server
// and named as the file of its handlers. The OpenAPI description and the page's types are
// made from them, and the collector and the commands speak with the server by them.
//
// They are values; nothing here is shared.
package api
