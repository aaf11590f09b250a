// Package link is the connections between nodes: what groups say to each other, and
// calls beside it, each way over one connection. It knows who is up, and carries
// what is handed to it; what that means is its users'. It may be used at once by
// many.
package link

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"go.etcd.io/raft/v3/raftpb"
	"golang.org/x/sync/semaphore"
	"google.golang.org/grpc"
	"google.golang.org/grpc/backoff"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/credentials"
	"google.golang.org/grpc/credentials/insecure"
	"google.golang.org/grpc/mem"
	"google.golang.org/grpc/metadata"
	"google.golang.org/grpc/peer"
	"google.golang.org/grpc/status"

	"steadyferry/internal/core/message"
)

// Remote is another node of the cluster.
type Remote struct {
	ID   uint64
	Name string
	Addr string // host:port
}

// Handler is told what comes from other nodes. None of its methods but Call
// may block.
type Handler interface {
	Packet(from uint64, p Packet)
	Cast(from uint64, kind string, body []byte)
	Call(ctx context.Context, from uint64, kind string, body []byte) ([]byte, error)
	NodeUp(id uint64)
	NodeDown(id uint64, ended bool)
}

// PeersConfig says how a node talks to others.
type PeersConfig struct {
	Self   uint64
	Secret string      // of the cluster; every node has it from the records
	TLS    *tls.Config // nil: plain
}

// Peers is the network between nodes: one gRPC connection for each pair, made
// by the one with the lower id, with two streams in both directions. Talk
// carries what groups say, and pings; Work carries bulk and calls, so that
// neither stands in the way of what is urgent.
type Peers struct {
	config  PeersConfig
	handler Handler
	server  *grpc.Server
	ctx     context.Context
	stop    context.CancelFunc
	wg      sync.WaitGroup
	calls   *semaphore.Weighted // that are worked on
	taken   atomic.Int64        // calls that are worked on, or wait
	queued  atomic.Int64        // bytes of those that wait for their turn

	mu    sync.RWMutex
	nodes map[uint64]*remote
}

// Times of the network.
const (
	pingEvery = 50 * time.Millisecond
	downAfter = 700 * time.Millisecond
	giveUp    = 5 * time.Second // without a word the connection is made anew
)

// Bounds of what waits to be sent to one node.
const (
	talkBytes  = 64 << 20
	workBytes  = 32 << 20
	frameBytes = 1 << 20
	maxFrame   = message.MaxRecord + 32<<20
)

// Bounds of the calls that a node answers.
const (
	callsAtOnce = 256       // worked on
	callsTaken  = 20_000    // worked on or waiting
	callsBytes  = 128 << 20 // of those that wait for their turn
)

// remote is what this node knows of another one.
type remote struct {
	Remote
	stop    context.CancelFunc // of the dialing
	session atomic.Pointer[session]
	heard   atomic.Int64 // since started, nanoseconds
	hears   atomic.Bool  // it hears us
	up      bool         // guarded by upMu
	upMu    sync.Mutex
	isUp    atomic.Bool
}

// session is one connection to a node while it lasts.
type session struct {
	id         string
	talk, work *outbox
	end        context.CancelFunc
	waitMu     sync.Mutex
	waiting    map[uint64]chan answer
	lastCall   atomic.Uint64
}

type answer struct {
	body []byte
	err  error
}

var started = time.Now()

func since() int64 { return int64(time.Since(started)) }

// NewPeers returns a network that is not connected yet.
func NewPeers(config PeersConfig, h Handler) *Peers {
	p := &Peers{config: config, handler: h, nodes: map[uint64]*remote{}, calls: semaphore.NewWeighted(callsAtOnce)}
	p.ctx, p.stop = context.WithCancel(context.Background())
	options := []grpc.ServerOption{grpc.ForceServerCodecV2(rawCodec{}), grpc.MaxRecvMsgSize(maxFrame), grpc.InitialWindowSize(8 << 20), grpc.InitialConnWindowSize(16 << 20),
		grpc.WriteBufferSize(128 << 10), grpc.ReadBufferSize(128 << 10), grpc.MaxConcurrentStreams(16), grpc.ConnectionTimeout(5 * time.Second)}
	if config.TLS != nil {
		options = append(options, grpc.Creds(credentials.NewTLS(config.TLS)))
	}
	p.server = grpc.NewServer(options...)
	p.server.RegisterService(&grpc.ServiceDesc{ServiceName: serviceName, HandlerType: (*any)(nil), Streams: []grpc.StreamDesc{
		{StreamName: "Talk", ServerStreams: true, ClientStreams: true, Handler: func(_ any, s grpc.ServerStream) error { return p.accept(s, true) }},
		{StreamName: "Work", ServerStreams: true, ClientStreams: true, Handler: func(_ any, s grpc.ServerStream) error { return p.accept(s, false) }},
	}}, p)
	p.wg.Go(p.ping)
	return p
}

const serviceName = "steadyferry.Peers"

// Serve takes connections of other nodes until Close.
func (p *Peers) Serve(l net.Listener) error { return p.server.Serve(l) }

// Close ends all connections.
func (p *Peers) Close() {
	p.stop()
	p.server.Stop()
	p.mu.Lock()
	for _, r := range p.nodes {
		r.close()
	}
	p.mu.Unlock()
	p.wg.Wait()
}

func (r *remote) close() {
	if r.stop != nil {
		r.stop()
	}
	if s := r.session.Load(); s != nil {
		s.end()
	}
}

// SetNodes says which other nodes there are.
func (p *Peers) SetNodes(nodes []Remote) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.ctx.Err() != nil {
		return
	}
	for id, r := range p.nodes {
		if !slices.Contains(nodes, r.Remote) {
			r.close()
			delete(p.nodes, id)
		}
	}
	for _, n := range nodes {
		if p.nodes[n.ID] != nil || n.ID == p.config.Self || n.Addr == "" {
			continue
		}
		r := &remote{Remote: n}
		p.nodes[n.ID] = r
		if p.config.Self < n.ID {
			var ctx context.Context
			ctx, r.stop = context.WithCancel(p.ctx)
			p.wg.Go(func() { p.dial(ctx, r) })
		}
	}
}

func (p *Peers) node(id uint64) *remote {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.nodes[id]
}

// Up reports whether a node answers, and hears this one.
func (p *Peers) Up(id uint64) bool {
	r := p.node(id)
	return r != nil && r.isUp.Load()
}

// Send implements Network.
func (p *Peers) Send(to uint64, packet Packet) {
	if r := p.node(to); r != nil {
		if s := r.session.Load(); s != nil {
			s.talk.offer(packet)
		}
	}
}

// SendBulk implements Network.
func (p *Peers) SendBulk(ctx context.Context, to uint64, packet Packet) {
	if r := p.node(to); r != nil {
		if s := r.session.Load(); s != nil {
			frame := append(mem.BufferSlice{mem.SliceBuffer{workPackets}}, encodePackets([]Packet{packet})...)
			s.work.put(ctx, frame)
		}
	}
}

// dial keeps a connection to a node with a higher id.
func (p *Peers) dial(ctx context.Context, r *remote) {
	creds := insecure.NewCredentials()
	if p.config.TLS != nil {
		c := p.config.TLS.Clone()
		c.ServerName = r.Name
		creds = credentials.NewTLS(c)
	}
	options := []grpc.DialOption{grpc.WithTransportCredentials(creds), grpc.WithDefaultCallOptions(grpc.ForceCodecV2(rawCodec{}), grpc.MaxCallRecvMsgSize(maxFrame)),
		grpc.WithInitialWindowSize(8 << 20), grpc.WithInitialConnWindowSize(16 << 20), grpc.WithWriteBufferSize(128 << 10), grpc.WithReadBufferSize(128 << 10),
		grpc.WithConnectParams(grpc.ConnectParams{Backoff: backoff.Config{BaseDelay: 50 * time.Millisecond, Multiplier: 1.5, Jitter: 0.2, MaxDelay: time.Second}, MinConnectTimeout: 2 * time.Second})}
	told := false
	for ctx.Err() == nil {
		err := p.connect(ctx, options, r)
		if ctx.Err() != nil {
			return
		}
		if c := status.Code(err); (c == codes.PermissionDenied || c == codes.Unauthenticated) && !told {
			slog.Error("a node refuses this one", "node", r.Name, "address", r.Addr, "error", err)
			told = true
		}
		select {
		case <-ctx.Done():
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// connect opens both streams and serves them until one ends. The connection
// goes with them: after a cut, one that is kept sends again only when its
// patience says so, which doubles with each time and is half a minute soon.
func (p *Peers) connect(ctx context.Context, options []grpc.DialOption, r *remote) error {
	conn, err := grpc.NewClient("passthrough:///"+r.Addr, options...)
	if err != nil {
		return err
	}
	defer conn.Close()
	s := newSession(uuid.NewString())
	ctx, s.end = context.WithCancel(ctx)
	defer s.end()
	opening := time.AfterFunc(giveUp, s.end)
	talk, err := p.open(ctx, conn, r, s, "Talk")
	if err != nil {
		return err
	}
	work, err := p.open(ctx, conn, r, s, "Work")
	if err != nil {
		return err
	}
	if !opening.Stop() {
		return context.DeadlineExceeded
	}
	p.begin(r, s)
	failed := make(chan error, 4)
	go func() { failed <- p.readTalk(r, talk) }()
	go func() { failed <- p.readWork(ctx, r, s, work) }()
	go func() { failed <- s.talk.run(talk) }()
	go func() { failed <- s.work.run(work) }()
	err = <-failed
	s.end()
	p.finish(r, s, err)
	return err
}

// open opens a stream to a node, which proves who it is and is shown who we are.
func (p *Peers) open(ctx context.Context, conn *grpc.ClientConn, r *remote, s *session, name string) (grpc.ClientStream, error) {
	g := &greeting{from: strconv.FormatUint(p.config.Self, 10), to: strconv.FormatUint(r.ID, 10), session: s.id, stream: name, dialer: newNonce()}
	ctx = metadata.AppendToOutgoingContext(ctx, headNode, g.from, headTo, g.to, headSession, g.session, headStream, g.stream, headNonce, g.dialer)
	st, err := conn.NewStream(ctx, &grpc.StreamDesc{ServerStreams: true, ClientStreams: true}, "/"+serviceName+"/"+name, grpc.WaitForReady(true))
	if err != nil {
		return nil, err
	}
	header, err := st.Header()
	if err == nil && len(header.Get(headNode)) == 0 {
		err = st.RecvMsg(new([]byte)) // without a header the stream was refused: Recv has the reason
	}
	if err == nil {
		err = g.answer(p.config.Secret, header, st)
	}
	return st, err
}

// stream is what both ends of a gRPC stream have in common.
type stream interface {
	SendMsg(any) error
	RecvMsg(any) error
}

// accept serves a stream that another node has opened.
func (p *Peers) accept(st grpc.ServerStream, isTalk bool) error {
	md, _ := metadata.FromIncomingContext(st.Context())
	get := func(name string) string { return one(md, name) }
	name := map[bool]string{true: "Talk", false: "Work"}[isTalk]
	if get(headNonce) == "" || get(headStream) != name {
		return errStranger
	}
	if get(headTo) != strconv.FormatUint(p.config.Self, 10) {
		return status.Error(codes.PermissionDenied, "another node is at this address now")
	}
	id, err := strconv.ParseUint(get(headNode), 10, 64)
	r := p.node(id)
	if err != nil || r == nil {
		return status.Error(codes.Unavailable, "the node is not known here yet")
	}
	if err := p.checkName(st.Context(), r.Name); err != nil {
		return err
	}
	hello := &greeting{from: get(headNode), to: get(headTo), session: get(headSession), stream: name, dialer: get(headNonce), listener: newNonce()}
	if err := st.SendHeader(metadata.Pairs(headNode, strconv.FormatUint(p.config.Self, 10), headNonce, hello.listener, headProof, hello.proof(p.config.Secret, "listener"))); err != nil {
		return err
	}
	if err := hello.check(p.config.Secret, st); err != nil {
		return err
	}
	if isTalk {
		s := newSession(get(headSession))
		var ctx context.Context
		ctx, s.end = context.WithCancel(st.Context())
		defer s.end()
		if old := r.session.Load(); old != nil {
			p.finish(r, old, errors.New("the node has connected again"))
			old.end()
		}
		p.begin(r, s)
		failed := make(chan error, 2)
		go func() { failed <- p.readTalk(r, st) }()
		go func() { failed <- s.talk.run(st) }()
		select {
		case err = <-failed:
		case <-ctx.Done():
			err = ctx.Err()
		}
		p.finish(r, s, err)
		return err
	}
	s := r.session.Load()
	if s == nil || s.id != get(headSession) {
		return status.Error(codes.Unavailable, "Talk comes first")
	}
	failed := make(chan error, 2)
	go func() { failed <- p.readWork(st.Context(), r, s, st) }()
	go func() { failed <- s.work.run(st) }()
	err = <-failed
	s.end()
	return err
}

// checkName makes sure that the certificate is that of the node.
func (p *Peers) checkName(ctx context.Context, name string) error {
	if p.config.TLS == nil {
		return nil
	}
	if from, ok := peer.FromContext(ctx); ok {
		if info, ok := from.AuthInfo.(credentials.TLSInfo); ok && len(info.State.PeerCertificates) > 0 && info.State.PeerCertificates[0].VerifyHostname(name) == nil {
			return nil
		}
	}
	return status.Errorf(codes.PermissionDenied, "the certificate is not that of %s", name)
}

func newSession(id string) *session {
	return &session{id: id, talk: newOutbox(talkBytes), work: newOutbox(workBytes), waiting: map[uint64]chan answer{}}
}

func (p *Peers) begin(r *remote, s *session) {
	r.heard.Store(since())
	r.hears.Store(true)
	r.session.Store(s)
	p.judge(r, false)
}

// finish ends a session; calls that wait for an answer get none.
func (p *Peers) finish(r *remote, s *session, err error) {
	s.talk.close()
	s.work.close()
	s.giveUpCalls()
	s.waitMu.Lock()
	s.waiting = nil
	s.waitMu.Unlock()
	if r.session.CompareAndSwap(s, nil) {
		slog.Debug("the connection to a node ended", "node", r.Name, "error", err)
		p.judge(r, p.ctx.Err() == nil)
	}
}

// judge decides whether a node is up, and tells of a change.
func (p *Peers) judge(r *remote, ended bool) {
	r.upMu.Lock()
	defer r.upMu.Unlock()
	up := r.session.Load() != nil && r.hears.Load() && since()-r.heard.Load() < int64(downAfter)
	if up == r.up {
		return
	}
	r.up = up
	r.isUp.Store(up)
	if up {
		slog.Info("a node answers", "node", r.Name)
		p.handler.NodeUp(r.ID)
	} else if p.ctx.Err() == nil {
		if s := r.session.Load(); s != nil {
			s.giveUpCalls() // it may never answer them
		}
		slog.Warn("a node no longer answers", "node", r.Name, "process", map[bool]string{true: "ended", false: "not known"}[ended])
		p.handler.NodeDown(r.ID, ended)
	}
}

// ping tells every node that this one lives, and whether it hears it.
func (p *Peers) ping() {
	ticker := time.NewTicker(pingEvery)
	defer ticker.Stop()
	for {
		select {
		case <-p.ctx.Done():
			return
		case <-ticker.C:
		}
		p.mu.RLock()
		nodes := make([]*remote, 0, len(p.nodes))
		for _, r := range p.nodes {
			nodes = append(nodes, r)
		}
		p.mu.RUnlock()
		for _, r := range nodes {
			s := r.session.Load()
			if s == nil {
				continue
			}
			quiet := time.Duration(since() - r.heard.Load())
			deaf := quiet > downAfter
			s.talk.offer(Packet{Kind: packetPing, Message: &raftpb.Message{Reject: &deaf}})
			p.judge(r, false)
			if quiet > giveUp {
				s.end()
			}
		}
	}
}

// packetPing is a packet of the network itself: Reject says that the sender
// does not hear the receiver.
const packetPing = 4

func (p *Peers) readTalk(r *remote, st stream) error {
	for {
		var frame []byte
		if err := st.RecvMsg(&frame); err != nil {
			return err
		}
		r.heard.Store(since())
		if err := p.handlePackets(r, frame); err != nil {
			return err
		}
	}
}

func (p *Peers) handlePackets(r *remote, frame []byte) error {
	return decodePackets(frame, func(packet Packet) {
		if packet.Kind == packetPing {
			if was := r.hears.Swap(!packet.Message.GetReject()); was == packet.Message.GetReject() || !r.isUp.Load() {
				p.judge(r, false)
			}
			return
		}
		p.handler.Packet(r.ID, packet)
	})
}
