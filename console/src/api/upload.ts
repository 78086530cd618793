import { texts } from '../texts'
import { ServiceError } from './service'

/** What is uploaded into a case. */
export interface Upload {
  caseName: string
  kind: 'evidence' | 'artifact'
  name: string
  file: Blob
  /** Is told which share of the file has arrived, from 0 to 1. */
  sent: (share: number) => void
}

/** How long a service is waited for that cannot be reached, and the first wait, in milliseconds. */
export const patience = { longest: 600_000, first: 500, most: 20_000 }

const tus = { 'Tus-Resumable': '1.0.0' }
const partBytes = 8 << 20

/** Where an upload of the same file into the same place is continued, also after the page was closed. */
function place({ caseName, kind, name, file }: Upload): string {
  return ['upload', caseName, kind, name, file.size, file instanceof File ? file.lastModified : 0].join(' ')
}

const encoded = (text: string) => btoa(String.fromCodePoint(...new TextEncoder().encode(text)))

async function send(path: string, init: RequestInit): Promise<Response> {
  let response: Response
  try {
    response = await fetch(path, { credentials: 'same-origin', ...init })
  } catch {
    throw new ServiceError(texts.evidence.uploadBroke, 0)
  }
  if (response.ok) return response
  const problem = (await response.json().catch(() => ({}))) as { detail?: string }
  throw new ServiceError(problem.detail ?? texts.evidence.uploadFailed, response.status)
}

async function begin(u: Upload): Promise<string> {
  const response = await send(`/api/cases/${encodeURIComponent(u.caseName)}/uploads`, {
    method: 'POST',
    headers: { ...tus, 'Upload-Length': String(u.file.size), 'Upload-Metadata': `name ${encoded(u.name)},kind ${encoded(u.kind)}` },
  })
  // Of this service, whatever it calls itself.
  const at = new URL(response.headers.get('Location') ?? '', 'http://here').pathname
  localStorage.setItem(place(u), at)
  return at
}

/** Sends parts until the file has arrived. */
async function proceed(u: Upload, at: string, arrived: (offset: number) => void) {
  let offset = Number((await send(at, { method: 'HEAD', headers: tus })).headers.get('Upload-Offset'))
  do {
    arrived(offset)
    const part = u.file.slice(offset, offset + partBytes)
    await send(at, { method: 'PATCH', headers: { ...tus, 'Upload-Offset': String(offset), 'Content-Type': 'application/offset+octet-stream' }, body: part })
    offset += part.size
  } while (offset < u.file.size)
  arrived(offset)
}

/**
 * Uploads a file in parts, by the tus protocol 1.0.0, and continues after whatever breaks the connection; one that was begun before is continued too. When it
 * resolves, the file is in the case.
 */
export async function upload(u: Upload) {
  let wait = patience.first
  let since = Date.now()
  let reached = 0
  let beginnings = 0
  for (;;) {
    try {
      const at = localStorage.getItem(place(u)) ?? (beginnings++, await begin(u))
      await proceed(u, at, (offset) => {
        if (offset > reached) [reached, wait, since] = [offset, patience.first, Date.now()]
        u.sent(u.file.size ? offset / u.file.size : 1)
      })
      localStorage.removeItem(place(u))
      return
    } catch (e) {
      if (!(e instanceof ServiceError)) throw e
      if (e.status === 404 && localStorage.getItem(place(u)) && beginnings < 3) {
        localStorage.removeItem(place(u)) // given up meanwhile, or the answer to its end was lost
        continue
      }
      if ((e.status > 0 && e.status < 500) || Date.now() - since > patience.longest) throw e
    }
    await new Promise((then) => setTimeout(then, wait))
    wait = Math.min(2 * wait, patience.most)
  }
}
