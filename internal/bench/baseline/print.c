/* A baseline for SQLite: a table, printed as delimited text by stepping through its rows,
 * in C on libsqlite3. Texts with a delimiter, a quote or a line break are quoted.
 *
 *   print DATABASE TABLE FILE
 */
#include <sqlite3.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static void field(FILE *out, const char *s, int n) {
	int plain = 1;
	for (int i = 0; i < n && plain; i++)
		plain = s[i] != ',' && s[i] != '"' && s[i] != '\n' && s[i] != '\r';
	if (plain) {
		fwrite(s, 1, n, out);
		return;
	}
	putc_unlocked('"', out);
	for (int i = 0; i < n; i++) {
		if (s[i] == '"')
			putc_unlocked('"', out);
		putc_unlocked(s[i], out);
	}
	putc_unlocked('"', out);
}

int main(int argc, char **argv) {
	sqlite3 *db;
	sqlite3_stmt *st;
	char query[200];
	if (argc != 4 || sqlite3_open(argv[1], &db))
		return 2;
	snprintf(query, sizeof query, "SELECT * FROM %s", argv[2]);
	FILE *out = fopen(argv[3], "w");
	if (!out || sqlite3_prepare_v2(db, query, -1, &st, 0)) {
		fprintf(stderr, "sqlite: %s\n", sqlite3_errmsg(db));
		return 1;
	}
	setvbuf(out, NULL, _IOFBF, 1 << 20);
	int columns = sqlite3_column_count(st), rc;
	while ((rc = sqlite3_step(st)) == SQLITE_ROW) {
		for (int i = 0; i < columns; i++) {
			if (i)
				putc_unlocked(',', out);
			const char *s = (const char *)sqlite3_column_text(st, i);
			if (s)
				field(out, s, sqlite3_column_bytes(st, i));
		}
		putc_unlocked('\n', out);
	}
	return rc == SQLITE_DONE && fclose(out) == 0 ? 0 : 1;
}
