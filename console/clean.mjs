// Empties dist before a build, but for the placeholder that lets Go compile without one.
import { readdirSync, rmSync } from 'node:fs'

for (const name of readdirSync('dist')) {
  if (name !== '.keep') rmSync(`dist/${name}`, { recursive: true })
}
