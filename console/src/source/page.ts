import { go } from '@codemirror/lang-go'
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { EditorState, RangeSet, StateEffect, StateField } from '@codemirror/state'
import type { Range } from '@codemirror/state'
import { Decoration, EditorView, GutterMarker, WidgetType, gutter, lineNumbers } from '@codemirror/view'
import type { DecorationSet } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import type { Variable } from '../api/service'
import { texts } from '../texts'
import { valuesBeside } from './beside'

export interface Mark {
  line: number
  enabled: boolean
  condition: boolean
  total?: number
}

export interface Marks {
  line: number
  caller: boolean
  wrong: boolean
  values: Variable[]
  able: Set<number>
  checkpoints: Mark[]
  /** How often the frame's call reached each line that it can reach; empty if that is not known. */
  ran: Map<number, number>
}

const setMarks = StateEffect.define<Marks>()

/** Values beside a line, as text. */
class Beside extends WidgetType {
  constructor(readonly text: string) {
    super()
  }
  eq(other: Beside) {
    return other.text === this.text
  }
  toDOM() {
    const e = document.createElement('span')
    e.className = 'beside'
    e.textContent = this.text
    return e
  }
}

/** A checkpoint: a pennant, hollow when disabled, notched when it has a condition. */
class Pennant extends GutterMarker {
  constructor(readonly mark: Mark) {
    super()
  }
  eq(other: Pennant) {
    return JSON.stringify(other.mark) === JSON.stringify(this.mark)
  }
  toDOM() {
    const { enabled, condition, total } = this.mark
    const e = document.createElement('span')
    e.className = 'pennant'
    const shape = condition ? 'M2 1 L14 1 L10 5 L14 9 L2 9 Z' : 'M2 1 L14 5 L2 9 Z'
    e.innerHTML = `<svg width="16" height="13" viewBox="0 0 16 13" aria-hidden="true"><path d="${shape}" class="${enabled ? 'full' : 'hollow'}"/><path d="M2 0V13" class="staff"/></svg>`
    const count = document.createElement('span')
    count.textContent = total === undefined ? '' : total.toLocaleString()
    e.append(count)
    e.title = texts.checkpoints.mark(enabled, condition, total)
    return e
  }
}

/** A line that can hold a checkpoint shows a faint tick. */
class Able extends GutterMarker {
  toDOM() {
    const e = document.createElement('span')
    e.className = 'able'
    return e
  }
}
const able = new Able()

/** How often the call reached a line. */
class Ran extends GutterMarker {
  constructor(readonly times: number) {
    super()
  }
  eq(other: Ran) {
    return other.times === this.times
  }
  toDOM() {
    const e = document.createElement('span')
    e.className = this.times ? 'ran' : 'ran never'
    e.textContent = this.times ? `${this.times.toLocaleString()}×` : '0'
    e.title = texts.source.ran(this.times)
    return e
  }
}

interface Shown {
  lines: DecorationSet
  gutter: RangeSet<GutterMarker>
  ran: RangeSet<GutterMarker>
}

const shown = StateField.define<Shown>({
  create: () => ({ lines: Decoration.none, gutter: RangeSet.empty, ran: RangeSet.empty }),
  update(value, tr) {
    for (const e of tr.effects) if (e.is(setMarks)) return { lines: lineMarks(tr.state, e.value), gutter: gutterMarks(tr.state, e.value), ran: ranMarks(tr.state, e.value) }
    return tr.docChanged ? { lines: Decoration.none, gutter: RangeSet.empty, ran: RangeSet.empty } : value
  },
  provide: (f) => EditorView.decorations.from(f, (v) => v.lines),
})

function lineMarks(state: EditorState, m: Marks): DecorationSet {
  if (m.line < 1 || m.line > state.doc.lines) return Decoration.none
  const out: Range<Decoration>[] = []
  for (let n = Math.max(1, m.line - 12); n <= m.line; n++) {
    const line = state.doc.line(n)
    const text = valuesBeside(line.text, m.values, n === m.line)
    if (n === m.line) out.push(Decoration.line({ class: m.caller ? 'caller-line' : m.wrong ? 'now-line wrong-line' : 'now-line' }).range(line.from))
    if (text) out.push(Decoration.widget({ widget: new Beside(text), side: 1 }).range(line.to))
  }
  for (const [n, times] of m.ran) if (!times && n !== m.line && n <= state.doc.lines) out.push(Decoration.line({ class: 'idle-line' }).range(state.doc.line(n).from))
  return Decoration.set(out, true)
}

function gutterMarks(state: EditorState, m: Marks): RangeSet<GutterMarker> {
  const at = new Map(m.checkpoints.map((c) => [c.line, c]))
  const out: Range<GutterMarker>[] = []
  for (let n = 1; n <= state.doc.lines; n++) {
    const c = at.get(n)
    if (c) out.push(new Pennant(c).range(state.doc.line(n).from))
    else if (m.able.has(n)) out.push(able.range(state.doc.line(n).from))
  }
  return RangeSet.of(out, true)
}

function ranMarks(state: EditorState, m: Marks): RangeSet<GutterMarker> {
  const out = [...m.ran].filter(([n]) => n >= 1 && n <= state.doc.lines).map(([n, times]) => new Ran(times).range(state.doc.line(n).from))
  return RangeSet.of(out, true)
}

const colours = HighlightStyle.define([
  { tag: tags.keyword, fontWeight: '600' },
  { tag: tags.comment, color: 'var(--ink-soft)', fontStyle: 'italic' },
  { tag: [tags.string, tags.number], color: 'var(--now-text)' },
])

const look = EditorView.theme({
  '&': { height: '100%', fontSize: '13px', backgroundColor: 'var(--fog-0)', color: 'var(--ink)' },
  '.cm-scroller': { fontFamily: 'var(--mono)', lineHeight: '1.55' },
  '.cm-gutters': { backgroundColor: 'var(--fog-1)', color: 'var(--ink-soft)', borderRight: '1px solid var(--fog-2)' },
  '.cm-marks': { minWidth: '58px', cursor: 'pointer' },
  '.cm-marks .cm-gutterElement': { paddingLeft: '6px' },
  '.now-line': { backgroundColor: 'var(--now-wash)', boxShadow: 'inset 5px 0 var(--now)' },
  '.wrong-line': { boxShadow: 'inset 5px 0 var(--now), inset 0 -2px var(--wrong)' },
  '.caller-line': { outline: '1px dotted var(--ink-soft)', outlineOffset: '-1px' },
  '.beside': { marginLeft: '2.2em', color: 'var(--now-text)', fontSize: '12px', whiteSpace: 'pre' },
  '.pennant': { display: 'inline-flex', gap: '3px', alignItems: 'center', color: 'var(--mark-text)', fontSize: '11px' },
  '.pennant .full': { fill: 'var(--mark)' },
  '.pennant .hollow': { fill: 'none', stroke: 'var(--mark)', strokeWidth: '1.4' },
  '.pennant .staff': { stroke: 'var(--mark)', strokeWidth: '1.6' },
  '.cm-ran': { minWidth: '38px', textAlign: 'right' },
  '.ran': { padding: '0 5px', fontSize: '11px', color: 'var(--ink-soft)' },
  '.ran.never': { fontWeight: '600' },
  '.idle-line': { backgroundImage: 'repeating-linear-gradient(135deg, var(--fog-1) 0 2px, transparent 2px 7px)' },
  '.able': { display: 'inline-block', width: '5px', height: '2px', marginLeft: '3px', backgroundColor: 'var(--fog-3)' },
})

/** Makes the read-only page; onMargin is told a line whose margin was clicked. */
export function makePage(parent: HTMLElement, onMargin: (line: number) => void): EditorView {
  return new EditorView({
    parent,
    state: EditorState.create({
      extensions: [
        EditorState.readOnly.of(true),
        EditorView.editable.of(false),
        EditorView.contentAttributes.of({ 'aria-label': texts.source.text, tabindex: '0' }),
        gutter({
          class: 'cm-marks',
          markers: (v) => v.state.field(shown).gutter,
          domEventHandlers: {
            mousedown(v, block) {
              onMargin(v.state.doc.lineAt(block.from).number)
              return true
            },
          },
        }),
        lineNumbers(),
        gutter({ class: 'cm-ran', markers: (v) => v.state.field(shown).ran }),
        go(),
        syntaxHighlighting(colours),
        look,
        shown,
      ],
    }),
  })
}

export function showFile(view: EditorView, text: string) {
  if (view.state.doc.toString() !== text) view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } })
}

export function showMarks(view: EditorView, m: Marks) {
  const effects: StateEffect<unknown>[] = [setMarks.of(m)]
  if (m.line >= 1 && m.line <= view.state.doc.lines) effects.push(EditorView.scrollIntoView(view.state.doc.line(m.line).from, { y: 'center' }))
  view.dispatch({ effects })
}
