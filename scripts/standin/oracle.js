// Works with the stand-in for Oracle Database through oracledb, a client of another hand: it
// creates, binds arrays, reads, commits, goes back to a savepoint, is refused by number and
// cancels. Prints what it did, and ends with 1 at the first thing that is not as it should be.
//
//   node oracle.js HOST:PORT/SERVICE USER PASSWORD
const assert = require('assert');
const oracledb = require('oracledb');

const [connectString, user, password] = process.argv.slice(2);
const connect = (p) => oracledb.getConnection({ user, password: p, connectString });
const refused = async (number, promise) => {
  const err = await promise.then(() => null, (e) => e);
  assert.ok(err, `ORA-${number} is expected`);
  assert.strictEqual(Number(/^(?:Error: )?ORA-(\d+)/.exec(err.message)[1]), number, err.message);
  return err;
};
oracledb.fetchAsString = [oracledb.CLOB];

const local = (...x) => new Date(...x);
const rows = [
  [1, 'Héron', 12.5, local(2024, 1, 29), local(2024, 1, 29, 10, 11, 12, 125), 'long é', 1.5, 'K-1'],
  [2, 'Wren', -0.05, null, null, null, -2.5, null],
  [3, 'x'.repeat(20), 1e5, local(1999, 11, 31, 23, 59, 59), local(1901, 0, 1), 'étang 😀 '.repeat(3000), 0, 'abcde'],
  [4, 'ß', 0, local(1583, 0, 1), null, 'y'.repeat(4001), 1e100, 'x'],
];

(async () => {
  const c = await connect(password);
  await c.execute(`CREATE TABLE js_boats (id NUMBER(5) PRIMARY KEY, name VARCHAR2(20 CHAR) NOT NULL, toll NUMBER(8,2),
    built DATE, seen TIMESTAMP(6), note CLOB, part BINARY_DOUBLE, code CHAR(5 CHAR))`);
  const insert = 'INSERT INTO js_boats (id, name, toll, built, seen, note, part, code) VALUES (:1, :2, :3, :4, :5, :6, :7, :8)';
  let r = await c.executeMany(insert, rows);
  assert.strictEqual(r.rowsAffected, rows.length);
  await c.commit();
  const read = async () => (await c.execute('SELECT * FROM js_boats ORDER BY id')).rows;
  const want = rows.map((x) => x.map((v, i) => (i === 7 && v !== null ? v.padEnd(5) : v)));
  assert.deepStrictEqual(await read(), want);
  r = await c.execute('SELECT * FROM js_boats');
  assert.deepStrictEqual(r.metaData.map((m) => [m.name, m.dbTypeName, m.nullable]), [
    ['ID', 'NUMBER', false], ['NAME', 'VARCHAR2', false], ['TOLL', 'NUMBER', true], ['BUILT', 'DATE', true],
    ['SEEN', 'TIMESTAMP', true], ['NOTE', 'CLOB', true], ['PART', 'BINARY_DOUBLE', true], ['CODE', 'CHAR', true]]);
  console.log(`oracledb: binds ${rows.length} rows of 8 types as arrays, and what it reads back is equal`);

  const pair = 'INSERT INTO js_boats (id, name) VALUES (:1, :2)';
  await refused(1, c.executeMany(pair, [[9, 'a'], [1, 'b']]));
  await c.rollback();
  r = await c.executeMany(pair, [[10, 'a'], [1, 'b'], [11, 'c'], [12, null], [123456, 'd'], [13, 'e'.repeat(21)]],
    { batchErrors: true });
  assert.strictEqual(r.rowsAffected, 2);
  assert.deepStrictEqual(r.batchErrors.map((e) => [e.offset, Number(/ORA-(\d+)/.exec(e.message)[1])]), [[1, 1], [3, 1400], [4, 1438], [5, 12899]]);
  await c.rollback();
  assert.deepStrictEqual(await read(), want);
  await refused(904, c.execute('SELECT nothing FROM js_boats'));
  await refused(942, c.execute('SELECT 1 FROM js_nothing'));
  await refused(955, c.execute('CREATE TABLE js_boats (id NUMBER)'));
  console.log('oracledb: is refused rows by ORA-00001, 01400, 01438 and 12899, and statements by 00904, 00942, 00955');

  r = await c.execute('SELECT count(*), sum(toll), min(built) FROM js_boats WHERE name = :n', { n: 'Héron' });
  assert.deepStrictEqual(r.rows, [[1, 12.5, rows[0][3]]]);
  r = await c.execute("SELECT count(*) FROM js_boats WHERE '' IS NULL AND length('') IS NULL");
  assert.deepStrictEqual(r.rows, [[4]]);
  await c.execute(pair, [20, 'a']);
  await c.execute('SAVEPOINT here');
  await c.execute('DELETE FROM js_boats');
  await c.execute('ROLLBACK TO SAVEPOINT here');
  const other = await connect(password);
  r = await other.execute('SELECT count(*) FROM js_boats');
  assert.deepStrictEqual(r.rows, [[4]], 'what is not committed is not seen');
  await refused(54, other.execute('LOCK TABLE js_boats IN EXCLUSIVE MODE NOWAIT'));
  await c.execute('CREATE TABLE js_second (id NUMBER)'); // which commits
  r = await other.execute('SELECT count(*) FROM js_boats');
  assert.deepStrictEqual(r.rows, [[5]]);
  await other.close();
  console.log('oracledb: savepoints, what others see before and after a definition, and locks');

  c.callTimeout = 300;
  const late = await c.execute('BEGIN DBMS_SESSION.SLEEP(20); END;').then(() => null, (e) => e);
  assert.ok(late && /NJS-123/.test(late.message), late && late.message);
  c.callTimeout = 0;
  r = await c.execute('SELECT count(*) FROM js_boats');
  assert.deepStrictEqual(r.rows, [[5]]);
  await c.execute('DROP TABLE js_boats');
  await c.execute('DROP TABLE js_second');
  await c.close();
  await refused(1017, connect('another'));
  console.log('oracledb: cancels a call, goes on over the same connection, and is refused a wrong password');
})().catch((e) => { console.error(e); process.exit(1); });
