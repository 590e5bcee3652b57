package api_test

import (
	"bufio"
	"bytes"
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/client"
	"innerladder/internal/core/people"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Many guesses at the same time are no more than one after the other, and while they go on
// somebody else signs in from elsewhere without waiting for them.
func TestABurstOfGuesses(t *testing.T) {
	r := newRig(t)
	const password = "lanterns over the harbour"
	for _, name := range []string{"sif", "kari"} {
		added, err := r.app.People.AddPerson(t.Context(), act.BySelf(),
			wire.NewPerson{Name: name, Memberships: everywhere("reader")})
		must(t, err)
		_, err = client.ComeIn(t.Context(), added.Link, "", password, "test", "")
		must(t, err)
	}
	// Calls by way of a proxy whose word is believed.
	proxy := &http.Client{Transport: &http.Transport{
		DialContext: (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP("127.0.0.2")}}).DialContext,
	}}
	signIn := func(from, name, word string) int {
		req, err := http.NewRequest("POST", r.server+"/api/v1/session",
			strings.NewReader(`{"name":"`+name+`","password":"`+word+`"}`))
		must(t, err)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Origin", r.server)
		req.Header.Set("X-Forwarded-For", from)
		res, err := proxy.Do(req)
		must(t, err)
		defer res.Body.Close()
		return res.StatusCode
	}
	var mu sync.Mutex
	got := map[int]int{}
	var all sync.WaitGroup
	for i := range 150 {
		all.Go(func() {
			word := "a wrong guess of many"
			if i == 149 {
				word = password // the right one is among them, late
			}
			status := signIn("203.0.113.5", "sif", word)
			mu.Lock()
			defer mu.Unlock()
			got[status]++
		})
	}
	begin := time.Now()
	if status := signIn("203.0.113.77", "kari", password); status != http.StatusOK {
		t.Errorf("somebody else, from elsewhere: %d", status)
	}
	t.Logf("somebody else was in after %s", time.Since(begin).Round(time.Millisecond))
	all.Wait()
	if got[http.StatusUnauthorized] > 5 || got[http.StatusTooManyRequests] < 140 {
		t.Errorf("150 guesses at once were answered %v", got)
	}
	if status := signIn("203.0.113.5", "sif", password); status != http.StatusTooManyRequests {
		t.Errorf("the right password after the guesses: %d", status)
	}
	if status := signIn("203.0.113.6", "sif", password); status != http.StatusOK {
		t.Errorf("sif herself, elsewhere: %d", status)
	}
}

// Who chooses another password may take their tokens away with it; what anybody would try is refused, also when it is
// made of their own name.
func TestAnotherPassword(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	sif := client.New(r.server, r.person("sif", everywhere("reader")...))
	session, _, err := r.app.People.SignInVouched(ctx, people.Vouched{
		Issuer: "test", Subject: "sif", Email: "sif@tarnholm.example", Verified: true,
	}, people.From{})
	must(t, err)
	status := func(method, path, body string) int {
		code, _, _ := r.call(method, path, body, "Authorization", "", "Cookie", "innerladder_session="+session,
			"Origin", r.server, "Content-Type", "application/json")
		return code
	}
	for _, weak := range []string{"password123", "sif-tarn-1", "Sif.Sif.Sif!", "qwertyuiop"} {
		if got := status("PUT", "/api/v1/me/password", fmt.Sprintf(`{"password":%q}`, weak)); got != 422 {
			t.Errorf("%s: %d", weak, got)
		}
	}
	if got := status("PUT", "/api/v1/me/password", `{"password":"lanterns over the harbour"}`); got != 204 {
		t.Fatal(got)
	}
	if _, err := sif.Models(ctx, client.Part{}); err != nil {
		t.Errorf("a token ends unasked: %v", err)
	}
	got := status("PUT", "/api/v1/me/password",
		`{"old":"lanterns over the harbour","password":"four words of nonsense","end_tokens":true}`)
	if got != 204 {
		t.Fatal(got)
	}
	_, err = sif.Models(ctx, client.Part{})
	wantCode(t, "a token that was taken away", err, "token.wrong")
	if got := status("GET", "/api/v1/me/sessions", ""); got != 200 {
		t.Errorf("the session in which it was changed: %d", got)
	}
	if _, err := r.tove.Models(ctx, client.Part{}); err != nil {
		t.Errorf("somebody else's token: %v", err)
	}
}

// A stream of events ends with the token, and with the session, that it came with.
func TestStreamsEndWithTheirSession(t *testing.T) {
	r := newRig(t)
	secret := r.person("sif", everywhere("reader")...)
	req, err := http.NewRequest("GET", r.server+"/api/v1/events", nil)
	must(t, err)
	req.Header.Set("Authorization", "Bearer "+secret)
	res, err := http.DefaultClient.Do(req)
	must(t, err)
	defer res.Body.Close()
	in := bufio.NewScanner(res.Body)
	if !in.Scan() || !bytes.HasPrefix(in.Bytes(), []byte("id: ")) || !in.Scan() || in.Text() != "event: now" {
		t.Fatalf("first came %s", in.Text())
	}
	by, err := r.app.People.ByToken(t.Context(), secret)
	must(t, err)
	tokens, err := r.app.People.Tokens(t.Context(), by, "")
	must(t, err)
	// It ends behind the service's back, so that no entry tells the stream.
	must(t, r.store.Write(t.Context(), records.Everything, func(v records.View) error {
		return v.EndToken(t.Context(), tokens.Items[0].ID, time.Now())
	}))
	ended := make(chan struct{})
	go func() {
		for in.Scan() {
		}
		close(ended)
	}()
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		t.Error("the stream goes on without its token")
	}
}
