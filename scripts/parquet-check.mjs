// Compares Parquet files with delimited text, value by value, by the reader hyparquet.
//
//   node parquet-check.mjs FOLDER
//
// The folder has for each table NAME.csv, in which @null stands for null, and a folder NAME
// of Parquet files, or NAME.parquet.
import fs from 'node:fs'
import path from 'node:path'
import { asyncBufferFromFile, parquetReadObjects, parquetMetadataAsync } from 'hyparquet'
import { compressors } from 'hyparquet-compressors'

// records reads delimited text by RFC 4180.
function records(text) {
  const out = []
  let row = [], field = '', quoted = false
  for (let i = 0; i < text.length; i++) {
    const c = text[i]
    if (quoted) {
      if (c !== '"') field += c
      else if (text[i + 1] === '"') { field += '"'; i++ } else quoted = false
    } else if (c === '"') quoted = true
    else if (c === ',') { row.push(field); field = '' }
    else if (c === '\n') { row.push(field); out.push(row); row = []; field = '' }
    else field += c
  }
  return out
}

const pad = (n, w = 2) => String(n).padStart(w, '0')

// same reports whether a value that the reader gives is the one that the text has. Numbers
// with a fraction come as doubles from it, whatever their type is.
function same(value, text, column) {
  if (value === null || value === undefined) return text === '@null'
  const logical = column.logical_type?.type
  if (value instanceof Date) {
    const day = `${pad(value.getUTCFullYear(), 4)}-${pad(value.getUTCMonth() + 1)}-${pad(value.getUTCDate())}`
    if (logical === 'DATE') return text === day
    const clock = `${pad(value.getUTCHours())}:${pad(value.getUTCMinutes())}:${pad(value.getUTCSeconds())}`
    const [begin, fraction = ''] = text.replace('+00:00', '').split('.')
    return begin === `${day} ${clock}` && Number(`0.${fraction.slice(0, 3) || 0}`) * 1000 === value.getUTCMilliseconds()
  }
  if (logical === 'TIME') {
    const us = Number(value), s = Math.floor(us / 1e6)
    const [begin, fraction = ''] = text.split('.')
    return begin === `${pad(Math.floor(s / 3600))}:${pad(Math.floor(s / 60) % 60)}:${pad(s % 60)}` &&
      Number(fraction.padEnd(6, '0')) === us % 1e6
  }
  if (typeof value === 'number') return Math.abs(Number(text) - value) <= Math.abs(value) * 1e-15 && text !== ''
  if (value instanceof Uint8Array) return Buffer.from(value).toString('hex') === text.replaceAll('-', '')
  return String(value) === text
}

const folder = process.argv[2]
for (const file of fs.readdirSync(folder).filter(n => n.endsWith('.csv')).sort()) {
  const table = file.slice(0, -4), [header, ...wanted] = records(fs.readFileSync(path.join(folder, file), 'utf8'))
  const at = path.join(folder, table)
  const parts = fs.existsSync(at) ? fs.readdirSync(at).sort().map(n => path.join(at, n)) : [at + '.parquet']
  let n = 0
  for (const part of parts) {
    const buffer = await asyncBufferFromFile(part), meta = await parquetMetadataAsync(buffer)
    const columns = meta.schema.slice(1)
    if (columns.map(c => c.name).join() !== header.join()) throw new Error(`${part}: columns ${columns.map(c => c.name)}, not ${header}`)
    for (const row of await parquetReadObjects({ file: buffer, compressors })) {
      columns.forEach((c, i) => {
        if (!same(row[c.name], wanted[n]?.[i], c)) {
          throw new Error(`${part}, row ${n + 1}, ${c.name}: ${String(row[c.name])}, and ${wanted[n]?.[i]} in the text`)
        }
      })
      n++
    }
  }
  if (n !== wanted.length) throw new Error(`${table}: ${n} rows, and ${wanted.length} in the text`)
  console.log(`hyparquet: ${table}: ${n} rows of ${header.length} columns in ${parts.length} file(s), every value as in the text`)
}
