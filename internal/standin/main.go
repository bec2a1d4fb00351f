// Command standin runs the stand-in for SQL Server, for tests, demos and clients of
// other hands, until it is ended. It prints the URL of a database. It is no database: what
// it holds is in memory, and it knows the part of Transact-SQL that the program sends.
//
//	go run ./internal/standin [-listen 127.0.0.1:1433] [-ca FILE] [-version 16.0.1000.6]
package main

import (
	"flag"
	"fmt"
	"log"
	"os"
	"os/signal"
	"syscall"

	"ambertray/internal/standin/engine"
	"ambertray/internal/standin/sqlserver"
)

func main() {
	var o sqlserver.Options
	flag.StringVar(&o.Listen, "listen", "", "host and port; otherwise a free port of 127.0.0.1")
	user := flag.String("user", "tray", "a login that may do everything")
	password := flag.String("password", "canal-1777", "its password, which the URL shows")
	ca := flag.String("ca", "", "write the certificate of the server's authority to this file")
	flag.BoolVar(&o.Plain, "plain", false, "encrypt nothing")
	flag.BoolVar(&o.Force, "force", false, "refuse clients that do not encrypt")
	flag.StringVar(&o.Version, "version", "", "the version that it says it is")
	flag.Parse()
	// Beside it there is one that may only read, with the same password.
	o.Logins = map[string]engine.Login{*user: {Password: *password}, "reader": {Password: *password,
		May: []string{"SELECT"}}}
	o.Log = log.New(os.Stderr, "standin: ", log.LstdFlags)
	s, err := sqlserver.Start(o)
	if err == nil && *ca != "" {
		err = os.WriteFile(*ca, s.CA, 0o644)
	}
	if err != nil {
		log.Fatal(err)
	}
	url := fmt.Sprintf("sqlserver://%s:%s@%s?database=master", *user, *password, s.Addr)
	if *ca != "" {
		url += "&certificate=" + *ca
	} else {
		url += "&trustservercertificate=true"
	}
	fmt.Println(url)
	end := make(chan os.Signal, 1)
	signal.Notify(end, os.Interrupt, syscall.SIGTERM)
	<-end
	s.Close()
}
