/** The kinds of checkpoint that are set from the list; others are set where they are: on a line, on a value. */
export const newKinds = [
  { kind: 'enter', words: 'on entering', about: 'a function' },
  { kind: 'return', words: 'on returning from', about: 'a function' },
  { kind: 'error', words: 'on errors with', about: 'a text; empty for any' },
  { kind: 'output', words: 'on output with', about: 'a text; empty for any' },
]
