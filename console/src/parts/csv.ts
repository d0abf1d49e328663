// Rows of a list as a table for spreadsheets, as the command line writes it too: a column for each
// value, with dots for what lies inside another, and semicolons between the items of a list.

function flatten(value: unknown, path: string, cells: Map<string, string>) {
  if (value === null || value === undefined) return
  if (Array.isArray(value)) value.forEach((v) => flatten(v, path, cells))
  else if (typeof value === 'object')
    for (const [key, inner] of Object.entries(value))
      flatten(inner, path ? `${path}.${key}` : key, cells)
  else {
    const before = cells.get(path)
    cells.set(path, before ? `${before};${String(value)}` : String(value))
  }
}

/** One cell: quoted where it has to be, and never taken for a formula. */
function cell(text: string) {
  if (/^[=+\-@\t\r]/.test(text) && !/^[+-]?\d+(\.\d+)?$/.test(text)) text = `'${text}`
  return /[",\n\r]/.test(text) || text !== text.trim() ? `"${text.replaceAll('"', '""')}"` : text
}

export function csv(rows: unknown[]) {
  const lines = rows.map((row) => {
    const cells = new Map<string, string>()
    flatten(row, '', cells)
    return cells
  })
  const columns = [...new Set(lines.flatMap((l) => [...l.keys()]))]
  return [columns, ...lines.map((l) => columns.map((c) => l.get(c) ?? ''))]
    .map((line) => line.map(cell).join(',') + '\n')
    .join('')
}
