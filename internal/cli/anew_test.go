package cli_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A load whose transaction the server ends in favour of another is begun anew, and its rejects are
// there once. A trigger plays the server here: it ends the first transaction, and no other.
func TestBegunAnew(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		switch s.name {
		case "postgres":
			s.exec(t, "CREATE TABLE boats (id int PRIMARY KEY, name varchar(20))", "CREATE SEQUENCE tries",
				`CREATE FUNCTION clash() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
					IF NEW.id = 700 AND nextval('tries') = 1 THEN RAISE EXCEPTION USING ERRCODE = '40P01'; END IF; RETURN NEW; END $$`,
				"CREATE TRIGGER clashes BEFORE INSERT ON boats FOR EACH ROW EXECUTE FUNCTION clash()")
		case "mysql":
			s.exec(t, "CREATE TABLE boats (id int PRIMARY KEY, name varchar(20))",
				`CREATE TRIGGER clashes BEFORE INSERT ON boats FOR EACH ROW BEGIN
					IF NEW.id = 700 AND @tried IS NULL THEN SET @tried = 1;
						SIGNAL SQLSTATE '40001' SET MYSQL_ERRNO = 1213, MESSAGE_TEXT = 'Deadlock'; END IF; END`)
		default:
			return // has no such triggers
		}
		text := "id,name\nten,Heron\n"
		for i := range 1000 {
			text += fmt.Sprintf("%d,Otter\n", i)
		}
		b.write("boats.csv", text)
		b.write("boats.yaml", `ambertray: 1
sources: [{file: boats.csv, header: 1}]
table: {name: boats}
columns:
  - {name: id, from: id, type: integer}
  - {name: name, from: name, type: varchar(20)}
tolerate: 1%
`)
		rec := b.loaded(3, "boats.yaml", "--into", s.url, "--mode", "append", "--yes")
		assert.Equal(t, int64(1000), rec.Records.Loaded)
		assert.Len(t, b.rejects(rec.Entry), 2, "names, and the one")
		assert.Contains(t, b.read("tray/"+rec.Entry+"/load.log"), "begins anew")
		assert.Equal(t, "1000", queryRows(t, s.db, "SELECT count(*) FROM boats")[0][0])
	})
}
