package api

// ErrorBody is what every answer with a status of 400 or above has.
type ErrorBody struct {
	Error  string `json:"error"`            // one line: what happened, and where
	Remedy string `json:"remedy,omitempty"` // one line: what to do
}
