import type { Variable } from '../api/service'

/** Bounds of what stands beside a line: characters of a value, and values. */
const maxLength = 30
const maxValues = 4

const letter = '[\\p{L}\\p{N}_]'
const isName = new RegExp(`^(?!\\p{N})${letter}+$`, 'u')

/** The names of a line with their values: on the current line all, above it those that it assigns. */
export function valuesBeside(text: string, values: Pick<Variable, 'name' | 'value' | 'state'>[], current: boolean): string {
  const code = text.replace(/"[^"]*"/g, '""')
  const parts: string[] = []
  for (const v of values) {
    if (v.state !== 'known' || !isName.test(v.name)) continue
    const whole = `(?<!${letter})${v.name}(?!${letter})`
    const found = new RegExp(current ? whole : `${whole}[\\p{L}\\p{N}_, ]*(:=|[-+*/|&]?=[^=])`, 'u')
    if (found.test(code)) parts.push(`${v.name} = ${v.value.length > maxLength ? v.value.slice(0, maxLength - 1) + '…' : v.value}`)
  }
  return parts.slice(0, maxValues).join('   ')
}
