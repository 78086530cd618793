/** The kinds of checkpoint that are set from the list; others are set where they are: on a line, on a value. */
export const newKinds = ['enter', 'return', 'error', 'output'] as const
