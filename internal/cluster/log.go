// Package cluster makes several nodes one service: it knows the engine by which they share state, the certificates by
// which they know each other, and how one joins and leaves. What is shared is the business of the owners of state: they
// know a log of changes, and nothing of the engine.
package cluster

import (
	"bytes"
	"compress/flate"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"

	"tollgate.example/key/internal/store"
)

const (
	// headKey and logKey follow the prefix of the log.
	headKey = "/head"
	logKey  = "/log/"
	// attempt is how long one question to the engine may take: when its leader dies, another one answers by then.
	attempt = 700 * time.Millisecond
	// kept is how many entries stay in the log for nodes that were away; who was away for longer gets the whole state.
	// keptFull is that number where the engine holds more than fullSize octets.
	kept, keptFull = 20_000, 500
	fullSize       = 400 << 20
	trimEvery      = 500
	// readSize is how many entries are read at once.
	readSize = 500
	idSize   = 16
	// maxText bounds an entry when it is unpacked.
	maxText = 128 << 20
)

// Log is the log of all nodes in the engine. Its entries are sealed: the engine, and a witness, can read nothing.
type Log struct {
	client *clientv3.Client
	aead   cipher.AEAD
	epoch  string
	// headKey and logKey are what entries of the engine are called.
	headKey, logKey string
	// cutOff tells that no majority is reached: nothing is tried then, so that nobody waits for it.
	cutOff atomic.Bool
}

// NewLog opens the log of an epoch by a key of 32 octets. What it is called in the engine begins with the prefix.
func NewLog(client *clientv3.Client, key []byte, epoch, prefix string) (*Log, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Log{client: client, aead: aead, epoch: epoch, headKey: prefix + headKey, logKey: prefix + logKey}, err
}

func (l *Log) entryKey(number int64) string { return fmt.Sprintf("%s%016x", l.logKey, number) }

func (l *Log) head(number int64) string { return l.epoch + "/" + strconv.FormatInt(number, 10) }

// ErrOtherLog is returned where the engine holds the log of other nodes.
var ErrOtherLog = errors.New("the engine holds the log of other nodes: join them, or use another prefix")

// Begin begins a log at a number. It takes the place of one of an earlier epoch of these nodes, and of no other.
func (l *Log) Begin(ctx context.Context, number int64, earlier []string) error {
	for {
		there, err := l.client.Get(ctx, l.headKey)
		if err != nil {
			return err
		}
		revision := int64(0)
		if len(there.Kvs) > 0 {
			epoch, _, _ := strings.Cut(string(there.Kvs[0].Value), "/")
			if !slices.Contains(earlier, epoch) {
				return ErrOtherLog
			}
			revision = there.Kvs[0].ModRevision
		}
		r, err := l.client.Txn(ctx).If(clientv3.Compare(clientv3.ModRevision(l.headKey), "=", revision)).
			Then(clientv3.OpDelete(l.logKey, clientv3.WithPrefix()), clientv3.OpPut(l.headKey, l.head(number))).Commit()
		if err != nil || r.Succeeded {
			return err
		}
	}
}

// NewID implements store.Log.
func (l *Log) NewID() string {
	id := make([]byte, idSize)
	rand.Read(id)
	return string(id)
}

// seal packs an entry for its place in the log.
func (l *Log) seal(number int64, id string, data []byte) []byte {
	var packed bytes.Buffer
	w, _ := flate.NewWriter(&packed, flate.BestSpeed)
	w.Write(data)
	w.Close()
	nonce := make([]byte, l.aead.NonceSize())
	rand.Read(nonce)
	out := append([]byte(id), nonce...)
	return l.aead.Seal(out, nonce, packed.Bytes(), []byte(l.head(number)+id))
}

func (l *Log) open(number int64, value []byte) (e store.LogEntry, err error) {
	n := l.aead.NonceSize()
	if len(value) < idSize+n {
		return e, fmt.Errorf("entry %d of the log is damaged", number)
	}
	id := string(value[:idSize])
	packed, err := l.aead.Open(nil, value[idSize:idSize+n], value[idSize+n:], []byte(l.head(number)+id))
	if err != nil {
		return e, fmt.Errorf("entry %d of the log was sealed with another key, or for another place", number)
	}
	data, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(packed)), maxText+1))
	if err != nil || len(data) > maxText {
		return e, fmt.Errorf("entry %d of the log cannot be unpacked: %v", number, err)
	}
	return store.LogEntry{Number: number, ID: id, Data: data}, nil
}

// Add implements store.Log. A question whose answer is lost is asked again: an entry of the same identifier is ours.
func (l *Log) Add(ctx context.Context, after int64, id string, data []byte) (bool, error) {
	if l.cutOff.Load() {
		return false, store.ErrCutOff
	}
	value := string(l.seal(after+1, id, data))
	for {
		asked, cancel := context.WithTimeout(ctx, attempt)
		r, err := l.client.Txn(asked).If(clientv3.Compare(clientv3.Value(l.headKey), "=", l.head(after))).
			Then(clientv3.OpPut(l.headKey, l.head(after+1)), clientv3.OpPut(l.entryKey(after+1), value)).
			Else(clientv3.OpGet(l.headKey), clientv3.OpGet(l.entryKey(after+1))).Commit()
		cancel()
		switch {
		case err == nil && r.Succeeded:
			if after%trimEvery == 0 {
				go l.trim(after)
			}
			return true, nil
		case err == nil:
			return l.others(r, id)
		case errors.Is(err, rpctypes.ErrRequestTooLarge):
			return false, errors.New("the change is too large for the log of the nodes: make it in parts, or have an " +
				"etcd cluster of yours take larger requests (--max-request-bytes)")
		case errors.Is(err, rpctypes.ErrPermissionDenied):
			return false, fmt.Errorf("%w: what this node shows may not write there: %w", store.ErrCutOff, err)
		case errors.Is(err, rpctypes.ErrNoSpace):
			return false, fmt.Errorf("%w: the engine has no room left", store.ErrCutOff)
		}
		select {
		case <-ctx.Done():
			return false, store.ErrCutOff
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// others tells what stands where an entry was to be.
func (l *Log) others(r *clientv3.TxnResponse, id string) (bool, error) {
	head := r.Responses[0].GetResponseRange()
	if len(head.Kvs) == 0 {
		return false, errors.New("the engine holds no log: its data are gone; bring them back with node recover")
	}
	if at := string(head.Kvs[0].Value); !strings.HasPrefix(at, l.epoch+"/") {
		return false, ErrAnew
	}
	there := r.Responses[1].GetResponseRange()
	return len(there.Kvs) > 0 && bytes.HasPrefix(there.Kvs[0].Value, []byte(id)), nil
}

// trim removes entries that only nodes need that were away for long.
func (l *Log) trim(number int64) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	keep := int64(kept)
	if s, err := l.client.Status(ctx, l.client.Endpoints()[0]); err == nil && s.DbSizeInUse > fullSize {
		keep = keptFull
	}
	if number > keep {
		l.client.Delete(ctx, l.logKey, clientv3.WithRange(l.entryKey(number-keep)))
	}
}

// ErrAnew is returned where the log is that of another epoch.
var ErrAnew = errors.New("the other nodes began anew without this one: have it join again")

// Head is the number of the last entry, as far as this node knows; now asks the majority.
func (l *Log) Head(ctx context.Context, now bool) (int64, error) {
	var how []clientv3.OpOption
	if !now {
		how = append(how, clientv3.WithSerializable())
	}
	r, err := l.client.Get(ctx, l.headKey, how...)
	if err != nil {
		return 0, err
	}
	if len(r.Kvs) == 0 {
		return 0, errNoLog
	}
	epoch, number, _ := strings.Cut(string(r.Kvs[0].Value), "/")
	if epoch != l.epoch {
		return 0, ErrAnew
	}
	return strconv.ParseInt(number, 10, 64)
}

// Follow hands on entries behind the one that from tells, in their order, until the context ends or hand fails. It
// returns store.ErrGap where entries are missing.
func (l *Log) Follow(ctx context.Context, from func() int64, hand func([]store.LogEntry) error) error {
	for {
		revision, err := l.read(ctx, from, hand)
		if err != nil {
			return err
		}
		watched, cancel := context.WithCancel(clientv3.WithRequireLeader(ctx))
		for w := range l.client.Watch(watched, l.logKey, clientv3.WithPrefix(), clientv3.WithRev(revision+1),
			clientv3.WithFilterDelete()) {
			if w.Err() != nil {
				break
			}
			var list []store.LogEntry
			for _, ev := range w.Events {
				e, err := l.entry(ev.Kv.Key, ev.Kv.Value)
				if err != nil {
					cancel()
					return err
				}
				if e.Number > from() {
					list = append(list, e)
				}
			}
			if len(list) == 0 {
				continue
			}
			if err := hand(list); err != nil {
				cancel()
				return err
			}
		}
		cancel()
		select { // the watch ended: read what came meanwhile
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func (l *Log) entry(key, value []byte) (store.LogEntry, error) {
	number, err := strconv.ParseInt(strings.TrimPrefix(string(key), l.logKey), 16, 64)
	if err != nil {
		return store.LogEntry{}, fmt.Errorf("the log holds %.60q, which is no entry", key)
	}
	return l.open(number, value)
}

// read hands on all entries that are there, and returns up to which revision of the engine.
func (l *Log) read(ctx context.Context, from func() int64, hand func([]store.LogEntry) error) (int64, error) {
	lacking := int64(0)
	for {
		at := from()
		asked, cancel := context.WithTimeout(ctx, 10*time.Second)
		r, err := l.client.Get(asked, l.entryKey(at+1), clientv3.WithRange(clientv3.GetPrefixRangeEnd(l.logKey)),
			clientv3.WithLimit(readSize), clientv3.WithSerializable())
		var head int64
		if err == nil {
			head, err = l.Head(asked, false)
		}
		cancel()
		switch {
		case err != nil:
			return 0, err
		case len(r.Kvs) == 0 && head <= at:
			return r.Header.Revision, nil
		case len(r.Kvs) == 0 && lacking == at+1: // it was not there twice, and is not on its way
			return 0, missing(at, head)
		case len(r.Kvs) == 0:
			lacking = at + 1
			continue
		}
		list := make([]store.LogEntry, 0, len(r.Kvs))
		for _, kv := range r.Kvs {
			e, err := l.entry(kv.Key, kv.Value)
			if err != nil {
				return 0, err
			}
			list = append(list, e)
		}
		if err := hand(list); err != nil {
			return 0, err
		}
	}
}

func missing(at, head int64) error {
	return fmt.Errorf("%w: this node is at %d, the log at %d", store.ErrGap, at, head)
}

// short is an identifier as it is written in names of files and members.
func short(data []byte) string { return base64.RawURLEncoding.EncodeToString(data) }
