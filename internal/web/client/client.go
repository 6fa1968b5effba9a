// Package client is the Go client of the HTTP API: for the command line, the lab and tests.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"tollgate.example/key/internal/web/apitype"
)

// Client calls one service. The zero HTTP client is http.DefaultClient.
type Client struct {
	URL   string
	Token string
	// Agent names the program that calls, such as tollgate/0.1.
	Agent string
	HTTP  *http.Client
}

// UnreachableError is returned when the service does not answer at all.
type UnreachableError struct {
	URL string
	Err error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf("the service at %s cannot be reached: %v. Is it running, and is the address right? (-url, "+
		"TOLLGATE_URL)", e.URL, e.Err)
}

func (e *UnreachableError) Unwrap() error { return e.Err }

// Option changes one request.
type Option func(*http.Request)

// IfMatch sends the tag of the object as it was read.
func IfMatch(tag string) Option {
	return func(r *http.Request) { r.Header.Set("If-Match", tag) }
}

func (c *Client) request(ctx context.Context, method, path string, in any, options []Option) (*http.Response, error) {
	var body io.Reader
	raw, isRaw := in.(Raw)
	if isRaw {
		body = bytes.NewReader(raw.Body)
	} else if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return nil, fmt.Errorf("encoding the request: %w", err)
		}
		body = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimRight(c.URL, "/")+"/api/v1"+path, body)
	if err != nil {
		return nil, fmt.Errorf("the address %q: %w", c.URL, err)
	}
	if isRaw {
		req.Header.Set("Content-Type", raw.Type)
	} else if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	if c.Agent != "" {
		req.Header.Set("User-Agent", c.Agent)
	}
	for _, option := range options {
		option(req)
	}
	client := c.HTTP
	if client == nil {
		client = http.DefaultClient
	}
	resp, err := client.Do(req)
	if err != nil {
		return nil, &UnreachableError{c.URL, unwrap(err)}
	}
	if resp.StatusCode >= 400 {
		defer resp.Body.Close()
		return nil, problem(resp)
	}
	return resp, nil
}

func unwrap(err error) error {
	var e *url.Error
	if errors.As(err, &e) {
		return e.Err
	}
	return err
}

func problem(resp *http.Response) error {
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	p := &apitype.Problem{}
	if json.Unmarshal(text, p) != nil || p.Detail == "" {
		p = &apitype.Problem{Status: resp.StatusCode, Title: resp.Status, Detail: "the service answered " + resp.Status}
	}
	return p
}

// Raw is a body that is sent as it is, and not as JSON.
type Raw struct {
	Type string
	Body []byte
}

// To takes an answer as it comes, however long it is. Head, if it is set, is told its header first.
type To struct {
	io.Writer
	Head func(http.Header)
}

// Do calls the API. in and out may be nil; in may be Raw, and with To or a *[]byte for out the answer is taken as it
// is.
func (c *Client) Do(ctx context.Context, method, path string, in, out any, options ...Option) error {
	resp, err := c.request(ctx, method, path, in, options)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil || resp.StatusCode == http.StatusNoContent {
		return nil
	}
	if to, ok := out.(To); ok {
		if to.Head != nil {
			to.Head(resp.Header)
		}
		if _, err := io.Copy(to, resp.Body); err != nil {
			return fmt.Errorf("reading the answer of %s: %w", path, err)
		}
		return nil
	}
	if raw, ok := out.(*[]byte); ok {
		if *raw, err = io.ReadAll(resp.Body); err != nil {
			return fmt.Errorf("reading the answer of %s: %w", path, err)
		}
		return nil
	}
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		return fmt.Errorf("reading the answer of %s: %w", path, err)
	}
	return nil
}

// Get reads one value.
func Get[T any](ctx context.Context, c *Client, path string) (T, error) {
	var out T
	err := c.Do(ctx, http.MethodGet, path, nil, &out)
	return out, err
}

// All reads every page of a list.
func All[T any](ctx context.Context, c *Client, path string, query url.Values) ([]T, error) {
	var out []T
	if query == nil {
		query = url.Values{}
	}
	for {
		page, err := Get[apitype.Page[T]](ctx, c, path+"?"+query.Encode())
		if err != nil {
			return nil, err
		}
		out = append(out, page.Items...)
		if page.Next == "" {
			return out, nil
		}
		query.Set("after", page.Next)
	}
}

// Event is one server-sent event.
type Event struct {
	ID   string
	Name string
	Data []byte
}

// Stream reads server-sent events until the function returns false, the stream ends or the context does.
func (c *Client) Stream(ctx context.Context, method, path string, in any, each func(Event) bool,
	options ...Option) error {
	resp, err := c.request(ctx, method, path, in, options)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	scanner := bufio.NewScanner(resp.Body)
	scanner.Buffer(nil, 32<<20)
	e := Event{Name: "message"}
	for scanner.Scan() {
		field, value, _ := strings.Cut(scanner.Text(), ":")
		value = strings.TrimPrefix(value, " ")
		switch field {
		case "":
			if e.Data != nil && !each(e) {
				return nil
			}
			e = Event{Name: "message"}
		case "id":
			e.ID = value
		case "event":
			e.Name = value
		case "data":
			e.Data = append(e.Data, value...)
		}
	}
	if err := scanner.Err(); err != nil && ctx.Err() == nil {
		return fmt.Errorf("the stream of %s broke off: %w", path, err)
	}
	return nil
}

// WaitReady waits until the service answers.
func (c *Client) WaitReady(ctx context.Context) error {
	for {
		_, err := Get[apitype.About](ctx, c, "/about")
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(30 * time.Millisecond):
		}
	}
}
