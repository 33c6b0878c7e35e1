/* Tables as files (RFC 4180): what is shown, for whoever wants to go on with it elsewhere. */

type Value = string | number | null | undefined

function quoted(value: Value): string {
  const text = value === null || value === undefined ? '' : String(value)
  return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text
}

export function csv(rows: readonly (readonly Value[])[]): string {
  return rows.map((row) => `${row.map(quoted).join(',')}\r\n`).join('')
}

/** Hand a table to the browser as a file. */
export function download(name: string, rows: readonly (readonly Value[])[]): void {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([csv(rows)], { type: 'text/csv;charset=utf-8' }))
  link.download = `${name.toLowerCase().replaceAll(/[^a-z0-9]+/g, '-')}.csv`
  link.click()
  setTimeout(() => URL.revokeObjectURL(link.href), 1000)
}
