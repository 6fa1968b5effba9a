package lab

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"strconv"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

// nodeAddress is where other nodes reach one of the demo's.
func nodeAddress(number int) string { return fmt.Sprintf("127.0.1.%d:8441", number) }

// secondHost is the address of the second node for devices and operators.
const secondHost = "127.0.0.2"

// beside is an address of the first node at the host of the second.
func beside(address string) string {
	_, port, _ := net.SplitHostPort(address)
	return net.JoinHostPort(secondHost, port)
}

// joinNodes adds the second node and the witness.
func joinNodes(ctx context.Context, o *Options, c *client.Client) error {
	if o.Nodes > 2 || o.Nodes < 1 || o.Witness && o.Nodes < 2 {
		return fmt.Errorf("-nodes is 1 or 2, and -witness goes with 2")
	}
	if o.Nodes < 2 {
		return nil
	}
	token, err := invitation(ctx, c, "south-pier", false)
	if err != nil {
		return err
	}
	second, err := startChild(
		ctx,
		o,
		"tollgated-2.log",
		"-data",
		filepath.Join(o.Dir, "data-2"),
		"-http",
		beside(o.HTTP),
		"-radius",
		beside(o.RADIUS),
		"-accounting",
		beside(o.Accounting),
		"-radius-tls",
		beside(o.RADIUSTLS),
		"-radius-dtls",
		beside(o.RADIUSTLS),
		"-tacacs",
		beside(o.TACACS),
		"-tacacs-tls",
		beside(o.TACACSTLS),
		"-node-address",
		nodeAddress(2),
		"-join",
		token,
	)
	if err != nil {
		return err
	}
	o.others = append(o.others, second)
	o.second.url, o.second.radius = "http://"+beside(o.HTTP), beside(o.RADIUS)
	if err := second.ready(ctx, &client.Client{URL: o.second.url}); err != nil {
		return err
	}
	if o.Witness {
		if token, err = invitation(ctx, c, "quay-witness", true); err != nil {
			return err
		}
		witness, err := startChild(ctx, o, "witness.log", "-data", filepath.Join(o.Dir, "data-3"), "-witness",
			"-node-address", nodeAddress(3), "-join", token)
		if err != nil {
			return err
		}
		o.others = append(o.others, witness)
	}
	return o.met(ctx, c)
}

// met waits until all nodes do well.
func (o *Options) met(ctx context.Context, c *client.Client) error {
	for end := time.Now().Add(40 * time.Second); ; time.Sleep(300 * time.Millisecond) {
		nodes, err := client.Get[apitype.Nodes](ctx, c, "/nodes")
		well := 0
		for _, n := range nodes.Items {
			if n.State == "well" {
				well++
			}
		}
		if err == nil && well == 1+len(o.others) {
			return nil
		}
		if ctx.Err() != nil || time.Now().After(end) {
			return fmt.Errorf("the nodes do not meet: %+v, %w", nodes, err)
		}
	}
}

func invitation(ctx context.Context, c *client.Client, name string, witness bool) (string, error) {
	var i apitype.NodeInvitation
	err := c.Do(ctx, http.MethodPost, "/nodes", apitype.NodeInput{Name: name, Witness: witness}, &i)
	return i.Token, err
}

func stopNodes(o *Options) {
	for _, s := range o.others {
		s.stop()
	}
}

// radius are the servers that devices ask.
func (o *Options) radius() string {
	if o.second.radius == "" {
		return o.RADIUS
	}
	return o.RADIUS + "," + o.second.radius
}

// accounting are the servers that devices send accounting to.
func (o *Options) accounting() string {
	if o.second.radius == "" {
		return o.Accounting
	}
	return o.Accounting + "," + beside(o.Accounting)
}

// process is a process as a text.
func (s *service) process() string { return strconv.Itoa(s.cmd.Process.Pid) }
