// Parses PowerShell scripts with a grammar of others: paths on the command line, one tree a
// line as JSON on standard output. Expressions that only wrap another one are left out.
import { readFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import { join } from 'node:path'

const modules = process.env.NODE_MODULES
const { Parser, Language } = createRequire(join(modules, 'x.js'))('web-tree-sitter')
await Parser.init()
const parser = new Parser()
parser.setLanguage(await Language.load(join(modules, 'tree-sitter-powershell/tree-sitter-powershell.wasm')))

function shape(node) {
  if (node.childCount === 1 && /_expression$|^pipeline$|^pipeline_chain$|^unary_expression$/.test(node.type)) {
    return shape(node.child(0))
  }
  const out = { k: node.type.replace('_argument_expression', '_expression'), l: node.startPosition.row + 1 }
  if (node.isError || node.isMissing) out.k = 'ERROR'
  if (node.childCount === 0 || /^(variable|command_name|generic_token|command_parameter|type_literal|string_literal|simple_name|comparison_operator)$/.test(node.type)) out.t = node.text
  else out.c = node.children.filter(Boolean).map(shape)
  return out
}

for (const path of process.argv.slice(2)) {
  const source = readFileSync(path, 'utf8').replace(/^\uFEFF/, '').replace(/\r\n/g, '\n')
  process.stdout.write(JSON.stringify(shape(parser.parse(source).rootNode)) + '\n')
}
