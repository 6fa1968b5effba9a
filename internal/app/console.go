package app

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"time"
)

// listenHTTP opens the address of the console. It is served by TLS everywhere but on loopback.
func listenHTTP(o *Options) (l net.Listener, secure bool, err error) {
	if l, err = net.Listen("tcp", o.HTTP); err != nil {
		return nil, false, fmt.Errorf("listening for the console on %s: %w", o.HTTP, err)
	}
	return limited(l), o.TLSCert != "" || !l.Addr().(*net.TCPAddr).IP.IsLoopback(), nil
}

func (a *App) serve(o *Options, listener net.Listener, secure bool, handler http.Handler) error {
	a.server = &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10,
		ErrorLog:       slog.NewLogLogger(o.Log.Handler(), slog.LevelWarn)}
	address := listener.Addr().(*net.TCPAddr)
	a.URL = "http://" + address.String()
	if secure {
		certificate, err := webCertificate(o)
		if err != nil {
			listener.Close()
			return err
		}
		a.server.TLSConfig = certificate
		a.URL = "https://" + address.String()
	}
	a.console.Store(&a.URL)
	a.handler.Store(&handler)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		var err error
		if secure {
			err = a.server.ServeTLS(listener, "", "")
		} else {
			err = a.server.Serve(listener)
		}
		if !errors.Is(err, http.ErrServerClosed) {
			a.failed <- fmt.Errorf("serving the console: %w", err)
		}
	}()
	a.done = append(a.done, func() {
		a.cancel() // live streams end first
		limited, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		if a.server.Shutdown(limited) != nil {
			a.server.Close()
		}
		<-ended
	})
	return nil
}
