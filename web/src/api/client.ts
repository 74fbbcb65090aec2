import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export type State = components['schemas']['StateOut']
export type ObjectRow = components['schemas']['ObjectOut']
export type Job = components['schemas']['JobOut']
export type Settings = components['schemas']['Settings']
export type ProjectRow = components['schemas']['ProjectOut']
export type Figures = components['schemas']['Figures']
export type Try = components['schemas']['TryOut']
export type Made = components['schemas']['MadeOut']
export type Fault = components['schemas']['FaultOut']

/** What every change has to carry: our own header, and where people sign in the token of this page. */
function ours(): Record<string, string> {
  const token = /(?:^|; )csrftoken=([^;]+)/.exec(globalThis.document?.cookie ?? '')?.[1]
  return { 'X-Quilt': '1', ...(token && { 'X-CSRFToken': token }) }
}

const noAnswer = () => globalThis.dispatchEvent?.(new Event('no-answer'))

export const api = createClient<paths>({ baseUrl: '/' })
api.use({
  onRequest({ request }) {
    for (const [name, value] of Object.entries(ours())) request.headers.set(name, value)
    return request
  },
  // Whoever asks gets an answer: that there is none just now is one, too.
  onError() {
    noAnswer()
    return Response.json({ detail: GONE }, { status: 503 })
  },
  onResponse({ response }) {
    if (response.status === 401) dispatchEvent(new Event('signed-out'))
    return response
  },
})

export const GONE = 'The application does not answer. Is it still running? What was saved is safe.'

/** Sends a form; gives the answer, or throws its words. */
async function send<T>(path: string, form: FormData): Promise<T> {
  const response = await answered(path, { method: 'POST', body: form, headers: ours() })
  const body: unknown = await response.json().catch(() => undefined)
  if (!response.ok) throw new Error(words(body))
  return body as T
}

/** The words of a refusal. */
export function words(error: unknown): string {
  const detail = (error as { detail?: unknown } | undefined)?.detail
  if (typeof detail === 'string') return detail
  if (Array.isArray(detail)) return 'A value is not what it should be: ' + JSON.stringify(detail[0])
  return GONE
}

/** The answer to a request. Throws where there is none. */
export async function answered(path: string, asked?: RequestInit): Promise<Response> {
  const response = await fetch(path, asked).catch(() => null)
  if (response) return response
  noAnswer()
  throw new Error(GONE)
}

/** A binary answer, or null when there is none yet. */
export async function binary(path: string): Promise<ArrayBuffer | null> {
  const response = await answered(path)
  return response.status === 200 ? response.arrayBuffer() : null
}

/** Uploads a picture to lay under a tile. */
export async function bringPicture(project: number, file: File): Promise<{ sha: string; name: string }> {
  const form = new FormData()
  form.append('file', file, file.name)
  return send(`/api/projects/${project}/pictures`, form)
}

/** Uploads a project that was saved as one file; returns the number of the project that is filled from it. */
export async function openSaved(file: File): Promise<number> {
  const form = new FormData()
  form.append('file', file, file.name)
  return (await send<{ project: number }>('/api/open', form)).project
}

/** Uploads a job file with the meshes that it takes in; returns the number of the project in which it is done. */
export async function openJob(files: { path: string; file: File }[]): Promise<number> {
  const form = new FormData()
  for (const f of files) {
    form.append('files', f.file, f.file.name)
    form.append('paths', f.path)
  }
  return (await send<{ project: number }>('/api/open-job', form)).project
}

/** Uploads files with their relative paths: new ones, or with `file` the newer version of one that is there. */
export async function bringIn(
  project: number,
  files: { path: string; file: File }[],
  unit: number,
  file?: number,
): Promise<Job> {
  const form = new FormData()
  for (const f of files) {
    form.append('files', f.file, f.file.name)
    form.append('paths', f.path)
  }
  form.append('unit_m', String(unit))
  return send(`/api/projects/${project}/files${file === undefined ? '' : `/${file}/replace`}`, form)
}
