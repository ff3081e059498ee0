package provider

import (
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"time"
)

// Browse signs somebody in at the provider as a browser does: it opens the address that a program has sent it to, fills in the page, and
// returns the code and the state that it would bring back to redirect.
func Browse(address, name, password, redirect string) (code, state string, err error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return "", "", err
	}
	var back *url.URL
	browser := &http.Client{Jar: jar, Timeout: time.Minute, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
		if strings.HasPrefix(r.URL.String(), redirect) {
			back = r.URL
			return http.ErrUseLastResponse
		}
		return nil
	}}
	page, err := browser.Get(address)
	if err != nil {
		return "", "", err
	}
	page.Body.Close()
	if page.StatusCode != http.StatusOK {
		return "", "", fmt.Errorf("the provider has answered with %s", page.Status)
	}
	at := page.Request.URL
	form := url.Values{"try": {at.Query().Get("try")}, "name": {name}, "password": {password}}
	answer, err := browser.PostForm(at.ResolveReference(&url.URL{Path: "/sign-in"}).String(), form)
	if err != nil {
		return "", "", err
	}
	answer.Body.Close()
	if back == nil {
		return "", "", fmt.Errorf("the provider has not sent the browser back: %s", answer.Status)
	}
	return back.Query().Get("code"), back.Query().Get("state"), nil
}
