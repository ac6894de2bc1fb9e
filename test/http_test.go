package test

import (
	"net/http"
	"strings"
	"time"
)

// client keeps no connection, so that a killed server shows at once.
var client = &http.Client{Transport: &http.Transport{DisableKeepAlives: true}, Timeout: 5 * time.Second}

// call sends a request and gives the status.
func call(method, url, auth, body string) (int, error) {
	r, err := http.NewRequest(method, url, strings.NewReader(body))
	if err != nil {
		return 0, err
	}
	r.Header.Set("Authorization", auth)
	res, err := client.Do(r)
	if err != nil {
		return 0, err
	}
	res.Body.Close()
	return res.StatusCode, nil
}
