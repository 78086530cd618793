import { expect, test } from 'vitest'
import { valuesBeside } from './beside'
import { personColour, personLetter } from './people'

const v = (name: string, value: string, state = 'known') => ({ name, value, state })
const values = [v('water', '4.2'), v('draught', '3.9'), v('h.margin', '1'), v('quay', '"Kelp Quay 3"'), v('lost', '', 'unrecorded')]

test.each([
  ['if water < draught {', true, 'water = 4.2   draught = 3.9'],
  ['if water < draught {', false, ''],
  ['water := h.depth()', false, 'water = 4.2'],
  ['water, draught = f()', false, 'water = 4.2   draught = 3.9'],
  ['water += 2', false, 'water = 4.2'],
  ['if water == 3 {', false, ''],
  ['log("water := fog")', true, ''],
  ['waterline := 3', true, ''],
  ['underwater = water', true, 'water = 4.2'],
  ['h.margin = lost', true, ''],
])('beside %j (current: %s) stands %j', (line, current, text) => {
  expect(valuesBeside(line, values, current)).toBe(text)
})

test('at most four values stand beside a line, and long ones are cut', () => {
  const many = ['a', 'b', 'c', 'd', 'e'].map((name) => v(name, 'x'.repeat(31)))
  const text = valuesBeside('a + b + c + d + e', many, true)
  expect(text.split('   ')).toHaveLength(4)
  expect(text.split('   ')[0]).toBe('a = ' + 'x'.repeat(29) + '…')
  expect(valuesBeside('a', [v('a', 'x'.repeat(30))], true)).toBe('a = ' + 'x'.repeat(30))
})

test('names with letters of any language are found', () => {
  expect(valuesBeside('größe := 3', [v('größe', '3')], false)).toBe('größe = 3')
  expect(valuesBeside('größe := 3', [v('gr', '3'), v('e', '3')], true)).toBe('')
  expect(valuesBeside('höhe, größe := 3, 4', [v('höhe', '3')], false)).toBe('höhe = 3')
  expect(valuesBeside('s := 3', [v('s', '3')], true)).toBe('s = 3')
})

test('a person has the same colour and letter everywhere', () => {
  expect(personColour('Ines')).toBe(personColour('Ines'))
  expect(new Set(['Ines', 'Tomas', 'Wren', 'Oyelaran', 'Maar', 'Sil', 'Bo', 'Ada'].map(personColour)).size).toBeGreaterThan(3)
  for (const name of ['Ines', '', 'Åse', '🙂']) expect(personColour(name)).toMatch(/^#[0-9a-f]{6}$/)
  expect(personLetter('ines')).toBe('I')
})
