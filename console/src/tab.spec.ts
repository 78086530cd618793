// What browsers have and the tests' environment does not: the memory of a tab.
const kept = new Map<string, string>()
globalThis.sessionStorage ??= {
  getItem: (key) => kept.get(key) ?? null,
  setItem: (key, value) => void kept.set(key, value),
  removeItem: (key) => void kept.delete(key),
  clear: () => kept.clear(),
  key: (n) => [...kept.keys()][n] ?? null,
  get length() {
    return kept.size
  },
}
