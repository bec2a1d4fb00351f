// Works with the stand-in for SQL Server through tedious, a client of another hand: it
// creates, loads in bulk, reads, commits, goes back to a savepoint, prepares, is refused and
// cancels. Prints what it did, and ends with 1 at the first thing that is not as it should be.
//
//   node sqlserver.js HOST PORT USER PASSWORD CA-FILE
const assert = require('assert');
const fs = require('fs');
const { Connection, Request, TYPES } = require('tedious');

const [host, port, userName, password, ca] = process.argv.slice(2);
const config = {
  server: host,
  authentication: { type: 'default', options: { userName, password } },
  options: {
    port: Number(port), database: 'master', encrypt: true, trustServerCertificate: false, serverName: 'localhost',
    cryptoCredentialsDetails: { ca: fs.readFileSync(ca) }, useUTC: true, rowCollectionOnRequestCompletion: true,
  },
};

const connect = () => new Promise((resolve, reject) => {
  const c = new Connection(config);
  c.connect((err) => (err ? reject(err) : resolve(c)));
});

// run gives the rows of a statement as lists of values.
const run = (c, sql, params = []) => new Promise((resolve, reject) => {
  const r = new Request(sql, (err, count, rows) => {
    if (err) reject(err);
    else resolve((rows || []).map((row) => row.map((x) => x.value)));
  });
  for (const [name, type, value, options] of params) r.addParameter(name, type, value, options);
  if (params.length) c.execSql(r);
  else c.execSqlBatch(r);
});

const promised = (f) => new Promise((resolve, reject) => f((err, x) => (err ? reject(err) : resolve(x))));

const columns = [
  ['id', TYPES.Int, { nullable: false }], ['boat', TYPES.NVarChar, { length: 40, nullable: true }],
  ['code', TYPES.VarChar, { length: 20, nullable: true }], ['note', TYPES.NVarChar, { length: Infinity, nullable: true }],
  ['toll', TYPES.Decimal, { precision: 19, scale: 4, nullable: true }], ['many', TYPES.BigInt, { nullable: true }],
  ['few', TYPES.TinyInt, { nullable: true }], ['share', TYPES.Float, { nullable: true }],
  ['part', TYPES.Real, { nullable: true }], ['paid', TYPES.Bit, { nullable: true }],
  ['built', TYPES.Date, { nullable: true }], ['seen', TYPES.DateTime2, { scale: 3, nullable: true }],
  ['zoned', TYPES.DateTimeOffset, { scale: 3, nullable: true }], ['clock', TYPES.Time, { scale: 3, nullable: true }],
  ['old', TYPES.DateTime, { nullable: true }], ['price', TYPES.Money, { nullable: true }],
  ['token', TYPES.UniqueIdentifier, { nullable: true }], ['raw', TYPES.VarBinary, { length: 10, nullable: true }],
];

const date = (s) => new Date(s);
const rows = [
  [1, 'étang 😀', 'K-1', 'n'.repeat(9000), 1234567.8901, '9007199254740993', 255, 1.5, 0.25, true, date('1999-12-31T00:00:00Z'),
    date('2024-02-29T10:11:12.125Z'), date('2024-02-29T10:11:12.125Z'), date('1970-01-01T10:11:12.125Z'),
    date('2024-01-01T00:00:00.003Z'), 3.125, '6F9619FF-8B86-D011-B42D-00C04FC964FF', Buffer.from('00ff', 'hex')],
  [2].concat(Array(17).fill(null)),
  [3, '', ' a ', '', -0.5, '-1', 0, -1e300, -0.5, false, date('0001-01-01T00:00:00Z'), date('9999-12-31T23:59:59.999Z'),
    date('1900-01-01T00:00:00Z'), date('1970-01-01T00:00:00Z'), date('1753-01-01T00:00:00Z'), -0.0001,
    '00000000-0000-0000-0000-000000000000', Buffer.alloc(0)],
];

const plain = (v) => (v instanceof Date ? v.toISOString() : Buffer.isBuffer(v) ? v.toString('hex') : v);

async function refused(c, sql, number) {
  try {
    await run(c, sql);
  } catch (e) {
    assert.strictEqual(e.number, number, `${sql}: ${e.message}`);
    return;
  }
  assert.fail(`${sql}: was not refused`);
}

(async () => {
  const c = await connect();
  await run(c, 'DROP TABLE IF EXISTS js_boats');
  const load = () => {
    const bulk = c.newBulkLoad('js_boats', { keepNulls: true, checkConstraints: true, fireTriggers: true }, () => {});
    for (const [name, type, options] of columns) bulk.addColumn(name, type, options);
    return bulk;
  };
  await run(c, load().getTableCreationSql());
  const done = await new Promise((resolve, reject) => {
    const bulk = c.newBulkLoad('js_boats', { keepNulls: true, checkConstraints: true }, (err, n) => (err ? reject(err) : resolve(n)));
    for (const [name, type, options] of columns) bulk.addColumn(name, type, options);
    c.execBulkLoad(bulk, rows);
  });
  assert.strictEqual(done, 3);
  const back = await run(c, 'SELECT * FROM js_boats ORDER BY id');
  assert.deepStrictEqual(back.map((r) => r.map(plain)), rows.map((r) => r.map(plain)));
  console.log(`tedious: 3 rows of ${columns.length} types in bulk, read back equal`);

  const found = await run(c, 'SELECT boat FROM js_boats WHERE id = @id AND boat = @boat', [['id', TYPES.Int, 1],
    ['boat', TYPES.NVarChar, 'ÉTANG 😀']]);
  assert.deepStrictEqual(found, [['étang 😀']], 'capitals do not count');

  await promised((f) => c.beginTransaction(f));
  await run(c, 'DELETE FROM js_boats WHERE id = 1');
  await promised((f) => c.saveTransaction(f, 'here'));
  await run(c, 'DELETE FROM js_boats');
  await promised((f) => c.rollbackTransaction(f, 'here'));
  assert.deepStrictEqual(await run(c, 'SELECT COUNT(*) FROM js_boats'), [[2]]);
  await promised((f) => c.rollbackTransaction(f));
  assert.deepStrictEqual(await run(c, 'SELECT COUNT(*) FROM js_boats'), [[3]]);
  await promised((f) => c.beginTransaction(f));
  await run(c, 'UPDATE js_boats SET few = 7 WHERE id = 2');
  await promised((f) => c.commitTransaction(f));
  console.log('tedious: a transaction with a savepoint, rolled back; one committed');

  const r = new Request('SELECT few FROM js_boats WHERE id = @id', () => {});
  r.addParameter('id', TYPES.Int);
  await new Promise((resolve, reject) => {
    r.on('prepared', resolve);
    r.on('error', reject);
    c.prepare(r);
  });
  const prepared = await new Promise((resolve, reject) => {
    r.userCallback = (err, n, list) => (err ? reject(err) : resolve(list));
    c.execute(r, { id: 2 });
  });
  assert.strictEqual(prepared[0][0].value, 7);
  console.log('tedious: a prepared statement');

  await run(c, 'ALTER TABLE js_boats ADD CONSTRAINT js_key PRIMARY KEY (id)');
  for (const [sql, number] of [['INSERT js_boats (id) VALUES (1)', 2627], ['INSERT js_boats (id) VALUES (NULL)', 515],
    ["UPDATE js_boats SET code = 'longer than twenty letters'", 2628], ['UPDATE js_boats SET few = 256', 8115],
    ["UPDATE js_boats SET built = 'yesterday'", 241], ['SELECT * FROM nowhere', 208], ['SELECT 1 FROM', 102], ['SELEC 1', 2812]]) {
    await refused(c, sql, number);
  }
  console.log('tedious: eight statements refused with the numbers of the server');

  const slow = new Request("WAITFOR DELAY '00:00:20'", () => {});
  const ended = new Promise((resolve) => { slow.userCallback = resolve; });
  c.execSqlBatch(slow);
  setTimeout(() => c.cancel(), 100);
  const err = await ended;
  assert.strictEqual(err && err.code, 'ECANCEL');
  assert.deepStrictEqual(await run(c, 'SELECT 1'), [[1]]);
  console.log('tedious: a statement cancelled, and the connection goes on');
  await run(c, 'DROP TABLE js_boats');
  c.close();
})().catch((e) => {
  console.error(`tedious: ${e.stack || e}`);
  process.exit(1);
});
