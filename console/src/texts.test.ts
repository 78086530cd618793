import { describe, expect, test } from 'vitest'
import { counted, texts } from './texts'

/** All texts without parameters, with where they are. */
function all(value: unknown, path: string): [string, string][] {
  if (typeof value === 'string') return [[path, value]]
  if (typeof value === 'function') return [] // tested by example below
  return Object.entries(value as object).flatMap(([key, v]) => all(v, `${path}.${key}`))
}

describe('texts', () => {
  test('numbers agree with their nouns', () => {
    expect(counted(1, 'moment')).toBe('1 moment')
    expect(counted(0, 'moment')).toBe('0 moments')
    expect(counted(2400, 'moment')).toBe(`${(2400).toLocaleString()} moments`)
    expect(counted(1, 'place holds', 'places hold')).toBe('1 place holds')
    expect(counted(2, 'place holds', 'places hold')).toBe('2 places hold')
    expect(texts.checkpoints.mark(false, true, 1)).toBe('checkpoint, disabled, with a condition, 1 hit')
    expect(texts.checkpoints.mark(true, false)).toBe('checkpoint')
    expect(texts.threads.total(2, 1)).toBe('2 threads, 1 different stack')
    expect(texts.lanes.hidden(1)).toBe(', 1 more thread')
    expect(texts.sitting.because('', 'no water')).toBe('; because of no water')
    expect(texts.sitting.because('tide.Error', 'no water')).toBe('; because of tide.Error: no water')
    expect(texts.source.place('main.moor', 7, true)).toBe('main.moor, line 7, a caller')
  })

  test('every kind of checkpoint that a list offers has its words', async () => {
    const { newKinds } = await import('./checkpointKinds')
    for (const k of newKinds) expect(texts.checkpoints[k].words).toMatch(/^on /)
  })

  test('have no space at either end', () => {
    for (const [path, text] of all(texts, 'texts')) {
      expect(text, path).toBe(text.trim())
    }
  })
})
