/* A baseline for SQLite: the passages of a delimited file, inserted row by row
 * through one prepared statement in one transaction, in C on libsqlite3. It
 * takes the file as it is made for the benchmark: nine columns, no quotes.
 *
 *   insert FILE DATABASE
 */
#include <sqlite3.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static sqlite3 *db;

static void check(int rc) {
	if (rc != SQLITE_OK && rc != SQLITE_DONE && rc != SQLITE_ROW) {
		fprintf(stderr, "sqlite: %s\n", sqlite3_errmsg(db));
		exit(1);
	}
}

/* bind gives a column its value: blank is null, 0 and 7 to 8 are numbers, 1 is
 * a date as dd/MM/yyyy. */
static void bind(sqlite3_stmt *st, int i, const char *from, size_t n, char day[10]) {
	switch (i) {
	case 0:
		check(sqlite3_bind_int64(st, 1, atoll(from)));
		return;
	case 1:
		memcpy(day, from + 6, 4);
		day[4] = day[7] = '-';
		memcpy(day + 5, from + 3, 2);
		memcpy(day + 8, from, 2);
		check(sqlite3_bind_text(st, 2, day, 10, SQLITE_STATIC));
		return;
	}
	if (n == 0)
		check(sqlite3_bind_null(st, i + 1));
	else if (i == 6 || i == 7)
		check(sqlite3_bind_double(st, i + 1, strtod(from, NULL)));
	else
		check(sqlite3_bind_text(st, i + 1, from, (int)n, SQLITE_STATIC));
}

int main(int argc, char **argv) {
	if (argc != 3)
		return 2;
	FILE *f = fopen(argv[1], "r");
	remove(argv[2]);
	if (!f || sqlite3_open(argv[2], &db))
		return 1;
	check(sqlite3_exec(db, "BEGIN; CREATE TABLE passages (passage_id INTEGER PRIMARY KEY, passed_on DATE, lock VARCHAR(20), boat VARCHAR(40), permit CHAR(6), direction VARCHAR(5), toll DECIMAL(8,2), draught_m DECIMAL(4,2), remarks VARCHAR(50))", 0, 0, 0));
	sqlite3_stmt *st;
	check(sqlite3_prepare_v2(db, "INSERT INTO passages VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", -1, &st, 0));
	char *line = NULL, day[10];
	size_t room = 0;
	ssize_t n = getline(&line, &room, f); /* the header */
	while ((n = getline(&line, &room, f)) > 0) {
		if (line[n - 1] == '\n')
			line[--n] = 0;
		const char *from = line;
		for (int i = 0; i < 9; i++) {
			size_t m = strcspn(from, ",");
			bind(st, i, from, m, day);
			from += m + 1;
		}
		check(sqlite3_step(st));
		check(sqlite3_reset(st));
	}
	check(sqlite3_finalize(st));
	check(sqlite3_exec(db, "COMMIT", 0, 0, 0));
	check(sqlite3_close(db));
	return 0;
}
