// Command shore is what a cluster for tests has around it: a registry, and a gateway. It also makes images of made-up
// services for that registry, and serves a stand-in of an API server.
package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/google/go-containerregistry/pkg/registry"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"k8s.io/client-go/tools/clientcmd"

	"aditus/internal/target/cluster/clustertest"
)

func main() {
	log.SetFlags(log.Ltime)
	if len(os.Args) < 2 {
		log.Fatal("usage: shore serve|image|travel|stand-in")
	}
	var err error
	switch os.Args[1] {
	case "serve":
		err = serve(os.Args[2:])
	case "image":
		err = image(os.Args[2:])
	case "travel":
		err = travel(os.Args[2:])
	case "stand-in":
		err = standIn(os.Args[2:])
	default:
		err = fmt.Errorf("there is no command %q", os.Args[1])
	}
	if err != nil {
		log.Fatal(err)
	}
}

// serve serves an empty registry with a pause image, and a gateway once the cluster has its definitions.
func serve(args []string) error {
	flags := flag.NewFlagSet("serve", flag.ExitOnError)
	listen := flags.String("listen", "", "where the registry is")
	pause := flags.String("pause", "", "the program that holds a pod's namespaces")
	kubeconfig := flags.String("kubeconfig", "", "how the cluster is reached")
	gateway := flags.String("gateway", "", "where the gateway is")
	flags.Parse(args)
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	listener, err := net.Listen("tcp", *listen)
	if err != nil {
		return err
	}
	go http.Serve(listener, registry.New(registry.Logger(log.New(io.Discard, "", 0))))
	program, err := os.ReadFile(*pause)
	if err != nil {
		return err
	}
	made, err := clustertest.Image(v1.Config{Entrypoint: []string{"/pause"}}, clustertest.File{Name: "pause", Content: program})
	if err == nil {
		err = clustertest.Push(*listen+"/pause:1", made)
	}
	if err != nil {
		return err
	}
	config, err := clientcmd.BuildConfigFromFlags("", *kubeconfig)
	if err != nil {
		return err
	}
	gate, err := clustertest.NewGate(ctx, config)
	if err != nil {
		return err
	}
	server := &http.Server{Addr: *gateway, Handler: gate, Protocols: new(http.Protocols)}
	server.Protocols.SetHTTP1(true)
	server.Protocols.SetUnencryptedHTTP2(true) // for calls of gRPC
	go func() { log.Print(server.ListenAndServe()) }()
	<-ctx.Done()
	return nil
}

// image makes an image of a made-up service that behaves as a file says, and pushes it.
func image(args []string) error {
	flags := flag.NewFlagSet("image", flag.ExitOnError)
	program := flags.String("program", "", "aditus, built without C")
	flags.Parse(args)
	if flags.NArg() != 2 {
		return fmt.Errorf("usage: shore image --program FILE REFERENCE BEHAVIOUR")
	}
	text, err := os.ReadFile(flags.Arg(1))
	if err != nil {
		return err
	}
	made, err := clustertest.Service(*program, text)
	if err != nil {
		return err
	}
	return clustertest.Push(flags.Arg(0), made)
}

// standIn serves a stand-in of an API server, and at /requests how many requests there were that were no watches.
func standIn(args []string) error {
	flags := flag.NewFlagSet("stand-in", flag.ExitOnError)
	listen := flags.String("listen", "", "where")
	flags.Parse(args)
	api := clustertest.New()
	api.Put("/apis/gateway.networking.k8s.io/v1/namespaces/gateways/gateways/shore", "spec: {}")
	mux := http.NewServeMux()
	mux.HandleFunc("/requests", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, api.Requests()) })
	mux.Handle("/", api)
	return http.ListenAndServe(*listen, mux)
}

// travel asks for hosts at a gateway, each some ten times a second, until it is ended.
func travel(args []string) error {
	flags := flag.NewFlagSet("travel", flag.ExitOnError)
	gateway := flags.String("gateway", "", "where the gateway is")
	flags.Parse(args)
	client := &http.Client{Timeout: 10 * time.Second}
	for _, host := range flags.Args() {
		go func() {
			for range time.Tick(100 * time.Millisecond) {
				request, err := http.NewRequest(http.MethodGet, "http://"+*gateway+"/crossing", nil)
				if err != nil {
					continue
				}
				request.Host = host
				if response, err := client.Do(request); err == nil {
					io.Copy(io.Discard, response.Body)
					response.Body.Close()
				}
			}
		}()
	}
	select {}
}
