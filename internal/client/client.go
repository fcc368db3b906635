// Package client is the typed Go client of the API. The command line uses it,
// and so do the tests.
package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"stockade/internal/api"
)

// Client talks to one service.
type Client struct {
	base, token string
	http        *http.Client
	refuses     error
}

// ErrUnreachable is in the chain when no service answers.
var ErrUnreachable = errors.New("the service could not be reached")

// unreachable says why no service answers, and what might help.
type unreachable struct {
	base  string
	cause error
	hint  string
}

func (u *unreachable) Error() string {
	return fmt.Sprintf("%v at %s: %v", ErrUnreachable, u.base, u.cause)
}

func (u *unreachable) Unwrap() []error { return []error{ErrUnreachable, u.cause} }

// Hint gives what to do where a service is there, but not as it was asked.
func Hint(err error) (string, bool) {
	var u *unreachable
	if !errors.As(err, &u) || u.hint == "" {
		return "", false
	}
	return u.hint, true
}

// New makes a client of the service at base, such as http://127.0.0.1:8440.
func New(base, token string) *Client {
	return &Client{base: strings.TrimRight(base, "/"), token: strings.TrimSpace(token),
		http: &http.Client{CheckRedirect: nowhere}}
}

// nowhere keeps the client at its service, which sends nobody elsewhere: whoever answers in its place
// would have the token sent on.
func nowhere(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

// Refusing makes a client all of whose calls fail with err.
func Refusing(err error) *Client { return &Client{refuses: err} }

// Trusting makes the client trust certificates that the authorities in PEM vouch for,
// and no others.
func (c *Client) Trusting(authorities []byte) (*Client, error) {
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(authorities) {
		return nil, errors.New("there is no certificate in PEM in it")
	}
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	c.http = &http.Client{Transport: t, CheckRedirect: nowhere}
	return c, nil
}

// tlsExpected is what a server that speaks TLS answers to plain HTTP.
const tlsExpected = "Client sent an HTTP request to an HTTPS server"

// why makes of an error of the connection what a person can act on.
func (c *Client) why(err error) error {
	var ue *url.Error
	if errors.As(err, &ue) {
		err = ue.Err
	}
	out := &unreachable{base: c.base, cause: err}
	var (
		authority x509.UnknownAuthorityError
		name      x509.HostnameError
		invalid   x509.CertificateInvalidError
	)
	switch {
	case errors.As(err, &authority):
		out.hint = "if the certificate is your own site's, name the file with its authority: --ca FILE " +
			"(or STOCKADE_CA; stockade login remembers it)"
	case errors.As(err, &name), errors.As(err, &invalid):
		out.hint = "the service was started with a certificate that does not fit its address or has " +
			"ended: give it another (--tls-cert, --tls-key)"
	case errors.Is(err, http.ErrSchemeMismatch):
		out.hint = "the service speaks plain HTTP there: write http:// instead of https://"
	}
	return out
}

// URL is the address of a call.
func (c *Client) URL(path string) string { return c.base + api.Base + path }

// Raw gives what a call answers as it is, where that is no JSON; 64 MiB at most.
func (c *Client) Raw(ctx context.Context, path string) ([]byte, error) {
	res, err := c.Do(ctx, http.MethodGet, path, nil)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	return io.ReadAll(io.LimitReader(res.Body, 64<<20))
}

// Do makes one call and hands over the answer. The caller closes the body. A
// problem that the service tells comes back as *api.Problem.
func (c *Client) Do(ctx context.Context, method, path string, in any) (*http.Response, error) {
	if in == nil {
		return c.send(ctx, method, path, nil, "")
	}
	raw, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	return c.send(ctx, method, path, bytes.NewReader(raw), "application/json")
}

func (c *Client) send(ctx context.Context, method, path string, body io.Reader, kind string) (*http.Response,
	error) {
	if c.refuses != nil {
		return nil, c.refuses
	}
	req, err := http.NewRequestWithContext(ctx, method, c.URL(path), body)
	if err != nil {
		return nil, fmt.Errorf("the address of the service, %q, is not a URL", c.base)
	}
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	res, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, c.why(err)
	}
	if res.StatusCode >= 400 {
		defer res.Body.Close()
		p := &api.Problem{Status: res.StatusCode}
		raw, _ := io.ReadAll(io.LimitReader(res.Body, 8<<20))
		if strings.HasPrefix(string(raw), tlsExpected) {
			return nil, &unreachable{c.base, errors.New("it speaks TLS there, and was asked in plain HTTP"),
				"write https:// instead of http://"}
		}
		if json.Unmarshal(raw, p) != nil || p.Title == "" {
			p.Title = "What answers at " + c.base + " is no Stockade service: " + res.Status
			p.WayOut = "name the address of API and console, as the service printed it when it began"
		}
		return nil, p
	}
	return res, nil
}

// Call makes one call and reads its answer as T.
func Call[T any](ctx context.Context, c *Client, method, path string, in any) (T, error) {
	var out T
	res, err := c.Do(ctx, method, path, in)
	if err != nil {
		return out, err
	}
	defer res.Body.Close()
	if err := json.NewDecoder(res.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("the answer of the service cannot be read: %w", err)
	}
	return out, nil
}

// Get reads one thing.
func Get[T any](ctx context.Context, c *Client, path string) (T, error) {
	return Call[T](ctx, c, http.MethodGet, path, nil)
}

// Post sends one thing.
func Post[T any](ctx context.Context, c *Client, path string, in any) (T, error) {
	return Call[T](ctx, c, http.MethodPost, path, in)
}

// All reads every page of a list.
func All[T any](ctx context.Context, c *Client, path string) ([]T, error) {
	out := []T{}
	sep := "?"
	if strings.Contains(path, "?") {
		sep = "&"
	}
	for cursor := ""; ; {
		p := path
		if cursor != "" {
			p += sep + "cursor=" + url.QueryEscape(cursor)
		}
		page, err := Get[api.Page[T]](ctx, c, p)
		if err != nil {
			return out, err
		}
		out = append(out, page.Items...)
		if page.Next == "" {
			return out, nil
		}
		cursor = page.Next
	}
}

// Follow waits for a job to end and passes its progress on; progress may be nil.
func (c *Client) Follow(ctx context.Context, id int64, progress func(api.JobEvent)) (api.Job, error) {
	for tries := 0; ; tries++ {
		job, err := c.follow(ctx, id, progress)
		if err == nil || ctx.Err() != nil || tries == 5 {
			return job, err
		}
		var p *api.Problem
		if errors.As(err, &p) {
			return job, err
		}
		time.Sleep(300 * time.Millisecond)
	}
}

func (c *Client) follow(ctx context.Context, id int64, progress func(api.JobEvent)) (api.Job, error) {
	res, err := c.Do(ctx, http.MethodGet, "/jobs/"+strconv.FormatInt(id, 10)+"/events", nil)
	if err != nil {
		return api.Job{}, err
	}
	defer res.Body.Close()
	sc := bufio.NewScanner(res.Body)
	sc.Buffer(make([]byte, 0, 64<<10), 64<<20)
	for sc.Scan() {
		data, ok := strings.CutPrefix(sc.Text(), "data: ")
		if !ok {
			continue
		}
		var e api.JobEvent
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			return api.Job{}, fmt.Errorf("the progress of job %d cannot be read: %w", id, err)
		}
		if e.Job != nil {
			return *e.Job, nil
		}
		if progress != nil {
			progress(e)
		}
	}
	if err := sc.Err(); err != nil {
		return api.Job{}, err
	}
	return api.Job{}, fmt.Errorf("the progress of job %d broke off", id)
}

// Send posts a file as it is and reads the answer as T.
func Send[T any](ctx context.Context, c *Client, path string, file io.Reader) (T, error) {
	var out T
	res, err := c.send(ctx, http.MethodPost, path, file, "application/octet-stream")
	if err != nil {
		return out, err
	}
	defer res.Body.Close()
	if err := json.NewDecoder(res.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("the answer of the service cannot be read: %w", err)
	}
	return out, nil
}

// File opens one file of an edition.
func (c *Client) File(ctx context.Context, mirror string, number int, path string) (io.ReadCloser, error) {
	parts := strings.Split(path, "/")
	for i := range parts {
		parts[i] = url.PathEscape(parts[i])
	}
	res, err := c.Do(ctx, http.MethodGet, fmt.Sprintf("/editions/%s/%d/file/%s", mirror, number,
		strings.Join(parts, "/")), nil)
	if err != nil {
		return nil, err
	}
	return res.Body, nil
}
