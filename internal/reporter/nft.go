package reporter

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os/exec"
	"strings"
	"time"

	core "tollgate.example/key/internal/core/presence"
)

// table is the table of nftables that is ours alone.
const table = "tollgate_reporter"

// Kernel has the kernel rewrite the source ports of people's connections (nftables, Linux). It is where the blocks are
// remembered too: they are gone when what depends on them is.
type Kernel struct {
	// Others are the ports for what nobody's block is for, but would lie in one.
	Others core.Ports
	// run runs nft; it is exchanged by tests.
	run func(ctx context.Context, in string, args ...string) ([]byte, error)
}

// NewKernel drives nft, which has to be installed.
func NewKernel(others core.Ports) *Kernel {
	return &Kernel{Others: others, run: func(ctx context.Context, in string, args ...string) ([]byte, error) {
		ctx, stop := context.WithTimeout(ctx, 10*time.Second)
		defer stop()
		cmd := exec.CommandContext(ctx, "nft", args...)
		var said bytes.Buffer
		cmd.Stdin, cmd.Stderr = strings.NewReader(in), &said
		out, err := cmd.Output()
		if err != nil {
			return nil, fmt.Errorf("nft %s: %w: %s", strings.Join(args, " "), err, bytes.TrimSpace(said.Bytes()))
		}
		return out, nil
	}}
}

// Blocks reads the blocks that the kernel knows, none if it knows nothing of us.
func (k *Kernel) Blocks(ctx context.Context) ([]Block, error) {
	tables, err := k.run(ctx, "", "-j", "list", "tables", "inet")
	if err != nil {
		return nil, err
	}
	if !bytes.Contains(tables, []byte(`"`+table+`"`)) {
		return nil, nil
	}
	text, err := k.run(ctx, "", "-j", "list", "table", "inet", table)
	if err != nil {
		return nil, err
	}
	var list struct {
		Nftables []struct {
			Rule *struct {
				Comment string `json:"comment"`
			} `json:"rule"`
		} `json:"nftables"`
	}
	if err := json.Unmarshal(text, &list); err != nil {
		return nil, fmt.Errorf("reading what nft lists: %w", err)
	}
	var out []Block
	for _, one := range list.Nftables {
		if one.Rule == nil {
			continue
		}
		var b Block
		if n, _ := fmt.Sscanf(one.Rule.Comment, comment, &b.UID, &b.Ports.First, &b.Ports.Last); n == 3 {
			out = append(out, b)
		}
	}
	return out, nil
}

// comment is how a rule says whose block it is.
const comment = "user %d ports %d-%d"

// Set makes the kernel give these blocks and no others, in one step.
func (k *Kernel) Set(ctx context.Context, list []Block, all core.Ports) error {
	_, err := k.run(ctx, k.rules(list, all), "-f", "-")
	return err
}

func (k *Kernel) rules(list []Block, all core.Ports) string {
	var b strings.Builder
	// Added first, so that deleting never fails; the kernel takes all of it or nothing.
	fmt.Fprintf(&b, "table inet %s\ndelete table inet %s\ntable inet %s {\n", table, table, table)
	b.WriteString("\tchain sign {\n\t\ttype nat hook postrouting priority srcnat; policy accept;\n" +
		"\t\toifname \"lo\" accept\n")
	for _, one := range list {
		said := fmt.Sprintf(comment, one.UID, one.Ports.First, one.Ports.Last)
		for _, family := range [...][2]string{{"ipv4", "ip"}, {"ipv6", "ip6"}} {
			fmt.Fprintf(&b, "\t\tmeta nfproto %s meta skuid %d meta l4proto { tcp, udp } snat %s to %s saddr:%d-%d "+
				"comment \"%s\"\n", family[0], one.UID, family[1], family[1], one.Ports.First, one.Ports.Last, said)
		}
	}
	// Whoever has no block does not get into somebody else's by choosing a port.
	for _, family := range [...][2]string{{"ipv4", "ip"}, {"ipv6", "ip6"}} {
		fmt.Fprintf(&b, "\t\tmeta nfproto %s meta l4proto { tcp, udp } th sport %d-%d snat %s to %s saddr:%d-%d\n",
			family[0], all.First, all.Last, family[1], family[1], k.Others.First, k.Others.Last)
	}
	b.WriteString("\t}\n}\n")
	return b.String()
}

// Remove takes all of it back.
func (k *Kernel) Remove(ctx context.Context) error {
	_, err := k.run(ctx, fmt.Sprintf("table inet %s\ndelete table inet %s\n", table, table), "-f", "-")
	return err
}
