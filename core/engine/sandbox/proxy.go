package sandbox

import (
	"errors"
	"net"
	"os"

	"golang.org/x/sys/unix"
)

// ProxyAddress is where a command finds the proxy that Command.Proxy serves.
const ProxyAddress = "127.0.0.1:8080"

// proxyFile is the inner half's end of the socket through which the listener of the proxy
// is handed out.
const proxyFile = 5

// listen begins to listen at ProxyAddress, in the network of the sandbox, and hands the
// listener to the outer half: a socket stays in the network that it was made in, whoever
// accepts connections on it.
func listen() error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return failure(err, "no socket for the proxy")
	}
	defer unix.Close(fd)
	address, err := net.ResolveTCPAddr("tcp4", ProxyAddress)
	if err != nil {
		return err
	}
	at := &unix.SockaddrInet4{Port: address.Port, Addr: [4]byte(address.IP.To4())}
	if err := unix.Bind(fd, at); err != nil {
		return failure(err, "the proxy has no address")
	}
	if err := unix.Listen(fd, unix.SOMAXCONN); err != nil {
		return failure(err, "the proxy cannot listen")
	}
	defer unix.Close(proxyFile)
	return failure(unix.Sendmsg(proxyFile, []byte{0}, unix.UnixRights(fd), nil, 0), "the proxy cannot be handed out")
}

// proxy is the outer half's side of a command's proxy.
type proxy struct {
	inner, outer *os.File
	listener     chan net.Listener // closed if there will be none
	done         chan struct{}
}

// startProxy has what the inner half listens on served, once it does.
func startProxy(serve func(net.Listener)) (*proxy, error) {
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_SEQPACKET|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	p := &proxy{
		inner: os.NewFile(uintptr(pair[0]), "proxy"), outer: os.NewFile(uintptr(pair[1]), "proxy"),
		listener: make(chan net.Listener, 1), done: make(chan struct{}),
	}
	go func() {
		defer close(p.done)
		l, err := receive(pair[1])
		if err != nil {
			close(p.listener) // the inner half reports why it ended
			return
		}
		p.listener <- l
		serve(l)
	}()
	return p, nil
}

// stop ends the proxy after the inner half has ended.
func (p *proxy) stop() {
	p.inner.Close()
	if l, ok := <-p.listener; ok {
		l.Close()
	}
	<-p.done
	p.outer.Close()
}

// receive takes a listener from a socket.
func receive(fd int) (net.Listener, error) {
	control := make([]byte, unix.CmsgSpace(4))
	_, n, _, _, err := unix.Recvmsg(fd, make([]byte, 1), control, unix.MSG_CMSG_CLOEXEC)
	if err != nil {
		return nil, err
	}
	messages, err := unix.ParseSocketControlMessage(control[:n])
	if err != nil {
		return nil, err
	}
	for _, m := range messages {
		if fds, err := unix.ParseUnixRights(&m); err == nil && len(fds) == 1 {
			file := os.NewFile(uintptr(fds[0]), "proxy")
			defer file.Close()
			return net.FileListener(file)
		}
	}
	return nil, errors.New("the sandbox sent no listener")
}
