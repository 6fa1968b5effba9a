package apitype

import "time"

// Nodes are the machines that are one service, as the one that is asked sees them.
type Nodes struct {
	Shared   bool   `json:"shared" doc:"There are several nodes"`
	Self     string `json:"self" doc:"Name of the node that answers"`
	Majority bool   `json:"majority" doc:"A majority of the nodes can be reached, so that changes can be made"`
	// CutOff is since when none can.
	CutOff  *time.Time `json:"cutOff,omitempty" doc:"Since when no majority is reached"`
	Head    int64      `json:"head" doc:"Last entry of the log of all nodes, as far as this node knows"`
	Applied int64      `json:"applied" doc:"Entry up to which this node has come"`
	Stuck   string     `json:"stuck,omitempty" doc:"Why entries cannot be taken over"`
	Removed bool       `json:"removed,omitempty" doc:"The other nodes removed this one"`
	// Etcd is empty where each node has an engine of its own.
	Etcd   string   `json:"etcd,omitempty" doc:"The etcd cluster by which the nodes share state; left out where each has an engine of its own"`
	Items  []Node   `json:"items"`
	Lonely []Lonely `json:"lonely" doc:"Clients that have asked one node only"`
	NodeSettings
}

// NodeSettings are the same on all nodes.
type NodeSettings struct {
	CodesWhenCutOff string `json:"codesWhenCutOff" enum:"refuse,take" doc:"What becomes of one-time codes while no majority is reached: they are refused, or taken and looked at afterwards"`
}

// Node is one of them.
type Node struct {
	Number  int    `json:"number"`
	Name    string `json:"name"`
	Self    bool   `json:"self" doc:"The node that answers"`
	Witness bool   `json:"witness" doc:"Keeps a majority and does nothing else"`
	Address string `json:"address" doc:"Where other nodes reach it"`
	URL     string `json:"url,omitempty" doc:"Where its console is"`
	Version string `json:"version"`
	State   string `json:"state" enum:"well,joining,behind,engine,silent" doc:"How it does"`
	Says    string `json:"says" doc:"The state in words, with what to do"`
	// Seen is when it answered last.
	Seen     *time.Time `json:"seen,omitempty" doc:"When it answered last"`
	Applied  int64      `json:"applied" doc:"Entry of the log up to which it has come"`
	Behind   int64      `json:"behind" doc:"Entries it has still to take over"`
	Offset   int64      `json:"offset" doc:"By how much its clock is ahead of that of the node that answers, in milliseconds"`
	Revision int        `json:"revision" doc:"Revision in effect"`
	Attempts int        `json:"attempts" doc:"Attempts of the last hour"`
	Clients  int        `json:"clients" doc:"Clients that have asked it"`
	Asked    []string   `json:"asked" doc:"The first of them by name"`
	Leads    bool       `json:"leads" doc:"Its engine leads the others"`
	Engine   int64      `json:"engine" doc:"Size of its engine, in octets"`
	Died     *time.Time `json:"died,omitempty" doc:"When its engine died last"`
	Why      string     `json:"why,omitempty" doc:"What that said before"`
	// Copies says where the records of the node are copied to.
	Copies   string    `json:"copies" doc:"Where what it records is copied to, in words; empty for a witness"`
	Copied   bool      `json:"copied" doc:"What it records is on another node too before it is acknowledged"`
	JoinedAt time.Time `json:"joinedAt"`
	JoinedBy string    `json:"joinedBy"`
}

// Lonely is a client that will be without service if a node dies.
type Lonely struct {
	Client string    `json:"client"`
	Node   string    `json:"node" doc:"The only node that it has asked"`
	Seen   time.Time `json:"seen"`
}

// NodeInput names a node that is to join.
type NodeInput struct {
	Name    string `json:"name" maxLength:"63" doc:"Name of the new node"`
	Witness bool   `json:"witness,omitempty" required:"false" doc:"Lets a witness join and nobody else"`
}

// NodeInvitation is told once.
type NodeInvitation struct {
	Name  string    `json:"name"`
	Token string    `json:"token" doc:"What the new node is started with; counts once"`
	Flags string    `json:"flags" doc:"Flags that it is started with besides, empty for none"`
	Until time.Time `json:"until"`
}
