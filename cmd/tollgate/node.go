package main

import (
	"errors"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"tollgate.example/key/internal/web/apitype"
	"tollgate.example/key/internal/web/client"
)

func nodeCommands() []command {
	return []command{
		{"node", "list", "", "the nodes of this service, and how they do", func(*flag.FlagSet) func(*invocation,
			[]string) error {
			return func(s *invocation, _ []string) error {
				nodes, err := client.Get[apitype.Nodes](s.ctx, s.api, "/nodes")
				if err != nil {
					return err
				}
				return s.print(nodes, func() { s.nodes(nodes) })
			}
		}},
		{"node", "invite", "NAME", "print an invitation that counts once, for an hour",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				witness := f.Bool("witness", false, "let in a witness and nobody else: it gets no key and no state")
				return func(s *invocation, args []string) error {
					name, err := one(args, "name for the new node")
					if err != nil {
						return err
					}
					var i apitype.NodeInvitation
					in := apitype.NodeInput{Name: name, Witness: *witness}
					if err := s.api.Do(s.ctx, http.MethodPost, "/nodes", in, &i); err != nil {
						return err
					}
					return s.print(i, func() { s.invitation(i, *witness) })
				}
			}},
		{"node", "remove", "NAME", "remove a node; to join again it needs an empty directory",
			func(*flag.FlagSet) func(*invocation, []string) error {
				return func(s *invocation, args []string) error {
					name, err := one(args, "node")
					if err != nil {
						return err
					}
					if err := s.api.Do(s.ctx, http.MethodDelete, "/nodes/"+url.PathEscape(name), nil, nil); err != nil {
						return err
					}
					s.say("%s is removed. Stop it: it answers devices with what it knew until then.", name)
					return nil
				}
			}},
		{"node", "settings", "", "what becomes of one-time codes without a majority",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				codes := f.String(
					"codes",
					"",
					"refuse: they are refused; take: they count, and what counted twice is an alarm",
				)
				return func(s *invocation, _ []string) error {
					var nodes apitype.Nodes
					var err error
					if *codes != "" {
						err = s.api.Do(
							s.ctx,
							http.MethodPut,
							"/nodes/settings",
							apitype.NodeSettings{CodesWhenCutOff: *codes},
							&nodes,
						)
					} else {
						nodes, err = client.Get[apitype.Nodes](s.ctx, s.api, "/nodes")
					}
					if err != nil {
						return err
					}
					return s.print(nodes.NodeSettings, func() {
						s.fields([2]string{"one-time codes while no majority is reached", nodes.CodesWhenCutOff})
					})
				}
			}},
		{"node", "recover", "", "go on with this node alone; the majority is gone",
			func(f *flag.FlagSet) func(*invocation, []string) error {
				sure := f.Bool(
					"others-are-gone",
					false,
					"the other nodes are stopped, and will not come back as they are",
				)
				return func(s *invocation, _ []string) error {
					nodes, err := client.Get[apitype.Nodes](s.ctx, s.api, "/nodes")
					if err != nil {
						return err
					}
					if !*sure {
						s.say(
							"%s would go on alone with entry %d of the log, revision %s.",
							nodes.Self,
							nodes.Applied,
							revisionOf(nodes),
						)
						s.say(
							"Lost is what other nodes acknowledged after that, if anything, and what they alone keep:",
						)
						s.say(
							"their attempts, sessions and audit. They are refused afterwards, and have to join again.",
						)
						return errors.New("stop the other nodes, then repeat this with -others-are-gone")
					}
					if err := s.api.Do(s.ctx, http.MethodPost, "/nodes/recovery", nil, &nodes); err != nil {
						return err
					}
					return s.print(nodes, func() { s.nodes(nodes) })
				}
			}},
	}
}

// revisionOf is the revision of the node that answers.
func revisionOf(nodes apitype.Nodes) string {
	for _, n := range nodes.Items {
		if n.Self {
			return fmt.Sprint(n.Revision)
		}
	}
	return "?"
}

func (s *invocation) invitation(i apitype.NodeInvitation, witness bool) {
	s.say("On the machine that is to be %s, with an empty data directory:\n", i.Name)
	if witness {
		s.say("  tollgated -data DIR -witness -join %s\n", i.Token)
		s.say("It keeps a majority when another node dies, and does nothing else. Nobody else can join with this.")
	} else {
		s.say("  tollgated -data DIR %s-join %s\n", i.Flags, i.Token)
		s.say("Whoever has this can join as a node, and gets the sealing key. For a witness, which gets nothing, " +
			"invite " +
			"it with -witness.")
	}
	s.say("It counts once, until %s.", i.Until.Local().Format("15:04:05"))
}

func (s *invocation) nodes(nodes apitype.Nodes) {
	if !nodes.Shared {
		s.say("This is the only node. Add another one with: tollgate node invite NAME")
		return
	}
	if nodes.Etcd != "" {
		s.say("They share state by the etcd cluster at %s.", nodes.Etcd)
	}
	switch {
	case nodes.Removed:
		s.say("%s", s.paint(red, "The others removed this node: it answers devices with what it knew until then."))
	case nodes.CutOff != nil && nodes.Etcd != "":
		s.say("%s", s.paint(red, fmt.Sprintf("It is not reached since %s: devices are answered, and nothing can be "+
			"changed.", nodes.CutOff.Local().Format("15:04:05"))))
	case nodes.CutOff != nil:
		s.say(
			"%s",
			s.paint(red, fmt.Sprintf("No majority of the nodes is reached since %s: devices are answered, and "+
				"nothing can be changed.", nodes.CutOff.Local().Format("15:04:05"))),
		)
	}
	if nodes.Stuck != "" {
		s.say("%s", s.paint(red, "What others changed cannot be taken over: "+nodes.Stuck))
	}
	var rows [][]string
	for _, n := range nodes.Items {
		kind, seen, state := "node", "", n.State
		if n.Witness {
			kind = "witness"
		}
		if n.Self {
			kind += ", this one"
		} else if n.Seen != nil {
			seen = ago(*n.Seen)
		}
		if n.Leads && n.State != "silent" {
			kind += ", leads"
		}
		if state != "well" {
			state = s.paint(red, state)
		}
		revision, clients := "", ""
		if !n.Witness {
			revision, clients = fmt.Sprint(n.Revision), fmt.Sprint(n.Clients)
		}
		rows = append(rows, []string{n.Name, kind, state, revision, fmt.Sprint(n.Behind), clients,
			fmt.Sprintf("%+d ms", n.Offset), n.Version, seen})
	}
	s.table([]string{"NAME", "KIND", "STATE", "REVISION", "BEHIND", "CLIENTS", "CLOCK", "VERSION", "SEEN"}, rows)
	for _, n := range nodes.Items {
		if n.Says != "up to date" && n.Says != "counts for the majority" {
			s.say("%s: %s", n.Name, n.Says)
		}
	}
	for _, n := range nodes.Items {
		switch {
		case n.Copied:
			s.say("What %s records is copied to %s before it is acknowledged.", n.Name, n.Copies)
		case n.Copies != "":
			s.say("%s", s.paint(red, "What "+n.Name+" records is copied to "+n.Copies))
		}
	}
	for i, l := range nodes.Lonely {
		if i == 0 {
			s.say("\nWithout service if a node dies, since they have asked one only:")
		}
		if i == 20 {
			s.say("  and %d more", len(nodes.Lonely)-i)
			break
		}
		s.say("  %s asks %s", l.Client, l.Node)
	}
}

// ago says how long ago something was.
func ago(at time.Time) string { return time.Since(at).Round(time.Second).String() + " ago" }
