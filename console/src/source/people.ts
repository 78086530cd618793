// Okabe and Ito's colour-blind-safe set, darkened where white letters need it.
const colours = ['#0b6aa8', '#b5530a', '#067a58', '#a14378', '#7a6a00', '#3c5fb0']

/** A colour for a person, the same everywhere. */
export function personColour(name: string): string {
  let n = 0
  for (const c of name) n = (n * 31 + c.charCodeAt(0)) % 9973
  return colours[n % colours.length]
}

export function personLetter(name: string): string {
  return name.slice(0, 1).toUpperCase()
}
