import { beforeEach, describe, expect, it, test } from 'vitest'
import { answer, Refusal } from '../wire.spec'
import { data, duration, service, ServiceError, showSecrets, withSecrets, words } from './service'

test('an answer is its data', async () => {
  answer('GET /api/me', { name: 'Ines', admin: false })
  expect(await data(service.GET('/api/me'))).toEqual({ name: 'Ines', admin: false })
})

test.each([
  [{ detail: 'case fog: not found', title: 'Not Found' }, 'case fog: not found'],
  [{ title: 'Not Found' }, 'Not Found'],
  [{}, 'The service failed.'],
  [{ detail: 'validation failed', errors: [{ message: 'too long', location: 'body.name' }, { location: 'body' }, { message: 'too short' }] }, 'validation failed; too long; too short'],
  [{ detail: 'x', errors: null }, 'x'],
])('a refusal %j is an error with its words', async (problem, said) => {
  answer('GET /api/me', new Refusal(422, problem))
  const error = await data(service.GET('/api/me')).catch((e) => e)
  expect(error).toBeInstanceOf(ServiceError)
  expect(error.status).toBe(422)
  expect(words(error)).toBe(said)
})

test('a service that cannot be reached has no status', async () => {
  answer('GET /api/me', new TypeError('fetch failed'))
  const error = await data(service.GET('/api/me')).catch((e) => e)
  expect(error).toBeInstanceOf(ServiceError)
  expect(error.status).toBe(0)
  expect(error.message).toContain('cannot be reached')
})

test('a request that was given up stays what it is', async () => {
  const control = new AbortController()
  answer('GET /api/me', () => control.abort())
  await expect(data(service.GET('/api/me', { signal: control.signal }))).rejects.toHaveProperty('name', 'AbortError')
})

test.each([
  [0, '0 ns'],
  [999, '999 ns'],
  [1000, '1.0 µs'],
  [999_949, '999.9 µs'],
  [1_000_000, '1.0 ms'],
  [-2_500_000, '-2.5 ms'],
  [999_900_000, '999.9 ms'],
  [1_000_000_000, '1.00 s'],
  [61_234_000_000, '61.23 s'],
])('%d ns is written %s', (ns, text) => {
  expect(duration(ns)).toBe(text)
})

test('anything that is thrown has words', () => {
  expect(words('fog')).toBe('fog')
  expect(words(new Error('swell'))).toBe('swell')
})

describe('what is masked', () => {
  beforeEach(() => sessionStorage.clear())

  it('is asked for in the questions of one case, and nowhere else', () => {
    const question = 'http://gannet/api/cases/fog/evidence/run/values?levels=2'
    expect(withSecrets(question)).toBe(question)
    showSecrets('fog', true)
    expect(withSecrets(question)).toBe(`${question}&unmask=true`)
    for (const other of ['http://gannet/api/cases/mist/evidence/run/values', 'http://gannet/api/cases/fog/evidence/run', 'http://gannet/api/cases/fog/exhibits', 'http://gannet/api/me']) expect(withSecrets(other)).toBe(other)
    showSecrets('fog', false)
    expect(withSecrets(question)).toBe(question)
  })
})
