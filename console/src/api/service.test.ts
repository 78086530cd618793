import { beforeEach, describe, expect, it } from 'vitest'
import { showSecrets, withSecrets } from './service'

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
