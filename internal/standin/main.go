// Command standin runs the stand-in for SQL Server or Oracle Database, for tests, demos and
// clients of other hands, until it is ended. It prints the URL of a database. It is no database:
// what it holds is in memory, and it knows the part of the server's SQL that the program sends.
//
//	go run ./internal/standin [-listen 127.0.0.1:1433] [-ca FILE] [-version 16.0.1000.6]
//	go run ./internal/standin -oracle [-listen 127.0.0.1:1521]
package main

import (
	"flag"
	"fmt"
	"log"
	"os"
	"os/signal"
	"syscall"

	"ambertray/internal/standin/engine"
	"ambertray/internal/standin/oracle"
	oracleengine "ambertray/internal/standin/oracle/engine"
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
	isOracle := flag.Bool("oracle", false, "that for Oracle Database, which encrypts nothing")
	flag.Parse()
	logged := log.New(os.Stderr, "standin: ", log.LstdFlags)
	if *isOracle {
		s, err := oracle.Start(oracle.Options{Listen: o.Listen, Log: logged,
			Logins: map[string]oracleengine.Login{*user: {Password: *password}}})
		if err != nil {
			log.Fatal(err)
		}
		fmt.Printf("oracle://%s:%s@%s/%s\n", *user, *password, s.Addr, oracle.Service)
		await()
		s.Close()
		return
	}
	// Beside it there is one that may only read, with the same password.
	o.Logins = map[string]engine.Login{*user: {Password: *password}, "reader": {Password: *password,
		May: []string{"SELECT"}}}
	o.Log = logged
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
	await()
	s.Close()
}

// await returns when it is to end.
func await() {
	end := make(chan os.Signal, 1)
	signal.Notify(end, os.Interrupt, syscall.SIGTERM)
	<-end
}
