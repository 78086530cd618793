// What browsers have and the tests' environment does not: the memory of a tab and of a browser, and where a page is from.
function memory(): Storage {
  const kept = new Map<string, string>()
  return {
    getItem: (key) => kept.get(key) ?? null,
    setItem: (key, value) => void kept.set(key, value),
    removeItem: (key) => void kept.delete(key),
    clear: () => kept.clear(),
    key: (n) => [...kept.keys()][n] ?? null,
    get length() {
      return kept.size
    },
  }
}
globalThis.sessionStorage = memory()
globalThis.localStorage = memory()
