import { afterEach, beforeAll, beforeEach, expect, test, vi } from 'vitest'
import type { Job } from '../api/client'
import { row, squares, stateOf } from '../testing'
import type { useQuilt as Store } from './index'

type Answer = () => Response | Promise<Response>
const routes: { method: string; path: RegExp; answer: (body: unknown, url: string) => Response | Promise<Response> }[] =
  []
const asked: string[] = []
const json = (body: unknown, status = 200) => new Response(JSON.stringify(body), { status })
const on = (method: string, path: RegExp, answer: (body: unknown, url: string) => Response | Promise<Response>) =>
  routes.unshift({ method, path, answer })

/** A promise and what settles it. */
function held<T>() {
  let settle: (value: T) => void = () => undefined
  const promise = new Promise<T>((resolve) => (settle = resolve))
  return { promise, settle }
}

// Before anything is imported: the client takes what makes requests when it is made.
const wire = vi.hoisted(() => {
  const wire = {
    answer: (request: Request): Promise<Response> => Promise.reject(new Error(`no server yet for ${request.url}`)),
  }
  vi.stubGlobal('localStorage', { getItem: () => null, setItem: () => undefined })
  vi.stubGlobal('fetch', (input: Request | string) =>
    wire.answer(typeof input === 'string' ? new Request(input) : input),
  )
  // Node's requests need a whole address.
  const Real = Request
  vi.stubGlobal(
    'Request',
    class extends Real {
      constructor(input: RequestInfo | URL, init?: RequestInit) {
        super(typeof input === 'string' && input.startsWith('/') ? `http://quilt${input}` : input, init)
      }
    },
  )
  return wire
})

async function answer(request: Request): Promise<Response> {
  const url = request.url.replace(/^https?:\/\/[^/]*/, '')
  asked.push(`${request.method} ${url}`)
  const body: unknown = request.method === 'GET' ? null : await request.json().catch(() => null)
  const route = routes.find((r) => r.method === request.method && r.path.test(url))
  return route ? route.answer(body, url) : json({ detail: 'nobody answers' }, 404)
}

let useQuilt: typeof Store
const server = { state: stateOf([]) }

beforeAll(async () => {
  wire.answer = answer
  ;({ useQuilt } = await import('./index'))
})

beforeEach(async () => {
  routes.length = 0
  server.state = { ...stateOf([row(1, 0, 'a'), row(1, 1, 'b')]), layout: null }
  on('GET', /projects\/\d+$/, () => json(server.state))
  on('GET', /faults$/, () => json([]))
  await useQuilt.getState().open(1)
  asked.length = 0
})

afterEach(() => {
  useQuilt.getState().close()
  vi.useRealTimers()
})

const q = () => useQuilt.getState()
const jobOf = (more: Partial<Job>): Job => ({
  id: 7,
  kind: 'mend',
  state: 'running',
  mine: true,
  progress: {},
  part: null,
  error: '',
  result: {},
  ...more,
})

test('a change shows at once, and another one starts from it, not from what was saved', async () => {
  const first = held<Response>()
  const bodies: { base: number; settings: { padding_px: number; margin_px: number } }[] = []
  on('POST', /change$/, (body) => {
    bodies.push(body as (typeof bodies)[0])
    const next = {
      ...server.state,
      snapshot: (server.state.snapshot ?? 0) + 1,
      settings: { ...server.state.settings, ...bodies.at(-1)!.settings },
    }
    server.state = next
    return bodies.length === 1 ? first.promise : json(next)
  })
  const one = q().change({ settings: { padding_px: 3 } })
  const two = q().change({ settings: { margin_px: 9 } })
  expect(q().state?.settings).toMatchObject({ padding_px: 3, margin_px: 9 })
  expect(q().waiting).toBe(2)
  await vi.waitFor(() => expect(bodies).toHaveLength(1))
  first.settle(json(server.state))
  await Promise.all([one, two])
  expect(bodies.map((b) => b.base)).toEqual([1, 2])
  expect(bodies[1].settings).toMatchObject({ padding_px: 3, margin_px: 9 })
  expect(q().waiting).toBe(0)
})

test('a refused change goes back to what is saved, with the words of the refusal', async () => {
  on('POST', /change$/, () => json({ detail: 'This cannot work.' }, 422))
  await q().change({ settings: { padding_px: 3000 } })
  expect(q().state?.settings.padding_px).toBe(8)
  expect(q().message).toBe('This cannot work.')
})

test('a value that met a newer state is offered again and set on that', async () => {
  const bodies: { base: number; settings: { padding_px: number; margin_px: number } }[] = []
  on('POST', /change$/, (body) => {
    bodies.push(body as (typeof bodies)[number])
    if (bodies.length === 1) {
      const settings = { ...server.state.settings, margin_px: 7 }
      server.state = { ...server.state, snapshot: 9, settings }
      return json({ detail: 'The project was changed in another tab.' }, 409)
    }
    return json({ ...server.state, settings: bodies[1].settings })
  })
  await q().change({ settings: { padding_px: 16 } })
  expect(q().state?.settings).toMatchObject({ padding_px: 8, margin_px: 7 })
  expect(q().refusedChange?.words).toBe('padding 16')
  await q().again()
  expect(bodies[1].base).toBe(9)
  expect(bodies[1].settings).toMatchObject({ padding_px: 16, margin_px: 7 })
  expect(q()).toMatchObject({ message: '', refusedChange: null })
  expect(q().state?.settings.padding_px).toBe(16)
})

test('a value that found no server is kept, and every button says so', async () => {
  on('POST', /(change|jobs|undo|discard)$/, () => Promise.reject(new TypeError('no connection')))
  on('GET', /projects/, () => Promise.reject(new TypeError('no connection')))
  for (const press of [
    () => q().change({ settings: { padding_px: 16 } }),
    () => q().start('pack'),
    () => q().discard(1),
    () => q().reload(),
  ]) {
    await press()
    expect(q().message).toContain('does not answer')
  }
  await q().change({ settings: { padding_px: 16 } })
  expect(q().refusedChange?.settings).toEqual({ padding_px: 16 })
})

test('an answer that comes late does not replace a newer one', async () => {
  const late = held<Response>()
  const old = { ...server.state, name: 'Old' }
  on('GET', /projects\/1$/, () => late.promise)
  const reload = q().reload()
  await vi.waitFor(() => expect(asked).toContain('GET /api/projects/1'))
  on('POST', /change$/, () => json({ ...server.state, name: 'Newer', snapshot: 2 }))
  await q().change({ settings: { padding_px: 5 } })
  expect(q().state?.name).toBe('Newer')
  late.settle(json(old))
  await reload
  expect(q().state?.name).toBe('Newer')
})

test('a state that was told before a change was done does not hide it from the next change', async () => {
  const change = held<Response>()
  const bases: number[] = []
  on('POST', /change$/, (body) => {
    bases.push((body as { base: number }).base)
    return bases.length === 1 ? change.promise : json({ ...server.state, snapshot: 3 })
  })
  const first = q().change({ settings: { padding_px: 5 } })
  const second = q().change({ settings: { margin_px: 3 } })
  await vi.waitFor(() => expect(bases).toEqual([1]))
  // An event makes the page ask for the state, which is told before the change is done; its answer comes after that.
  await q().reload()
  server.state = { ...server.state, snapshot: 2 }
  change.settle(json(server.state))
  await Promise.all([first, second])
  expect(bases).toEqual([1, 2])
  expect(q().state?.snapshot).toBe(3)
})

test('one project never shows in another', async () => {
  const slow = held<Response>()
  on('GET', /projects\/1$/, () => slow.promise)
  on('GET', /projects\/2$/, () => json({ ...stateOf([]), id: 2, name: 'Second', layout: null }))
  const first = q().open(1)
  await q().open(2)
  slow.settle(json({ ...server.state, name: 'First' }))
  await first
  expect(q().state?.name).toBe('Second')
})

test('a job is followed to its end, and the state comes with what it left', async () => {
  const answers: Answer[] = [() => json(jobOf({})), () => json(jobOf({ state: 'done', result: { changed: 3 } }))]
  on('POST', /jobs$/, () => json(jobOf({ state: 'waiting' })))
  on('GET', /jobs\/7/, () => answers.shift()!())
  await q().start('mend', { action: 'flip' })
  server.state = { ...server.state, snapshot: 5, undo: 'Flip' }
  await vi.waitFor(() => expect(q().job).toBeNull())
  expect(q().note).toBe('3 islands changed.')
  expect(q().state?.undo).toBe('Flip')
})

test('a page that opens goes on with its own work, not with that of somebody else', async () => {
  let mine = false
  server.state = { ...server.state, job: 7 }
  on('GET', /jobs\/7/, () => json(jobOf({ mine })))
  await q().open(1)
  expect(q().job).toBeNull()
  mine = true
  await q().open(1)
  expect(q().job?.id).toBe(7)
})

test('work that the project is too busy for is said, and what was shown ahead is taken back', async () => {
  on('POST', /jobs$/, () => json({ detail: 'This project is busy already.' }, 409))
  await q().start('mend', { action: 'flip' })
  expect(q().message).toContain('busy')
  expect(asked).toContain('GET /api/projects/1')
})

test('a server that is gone is told, and nobody polls for ever', async () => {
  vi.useFakeTimers()
  on('POST', /jobs$/, () => json(jobOf({})))
  on('GET', /jobs\/7/, () => Promise.reject(new TypeError('no connection')))
  const started = q().start('pack', {})
  await vi.advanceTimersByTimeAsync(10)
  await started
  await vi.advanceTimersByTimeAsync(5_000)
  expect(q().message).toContain('does not answer')
  await vi.advanceTimersByTimeAsync(120_000)
  expect(q().job).toBeNull()
  const count = asked.length
  await vi.advanceTimersByTimeAsync(60_000)
  expect(asked).toHaveLength(count)
})

test('a move by hand is on the table at once and is taken over the saved layout, not over itself', async () => {
  const piece = squares(1, [
    [0, 0, 0.1],
    [0.5, 0.5, 0.1],
  ])
  useQuilt.setState({ pieces: [piece] })
  const answer = held<Response>()
  on('POST', /jobs$/, () => answer.promise)
  q().select(['1:1'])
  const moving = q().move({ angle: 0, mirror: 1, scale: 1, u: 0.25, v: 0 }, 'Away')
  expect([...piece.table.slice(5, 10)]).toEqual([0, 1, 1, 0.25, 0])
  expect([...piece.laid.slice(5, 10)]).toEqual([0, 1, 1, 0, 0])
  answer.settle(json({ detail: 'no' }, 409))
  await moving
})

test('only changed rows of a layout come over the line', async () => {
  const { withRows } = await import('../scene/geometry')
  const known = Float32Array.from({ length: 15 }, (_, i) => i)
  const data = new ArrayBuffer(4 + 4 + 20)
  new Uint32Array(data, 0, 2).set([1, 2])
  new Float32Array(data, 8, 5).set([9, 9, 9, 9, 9])
  expect([...withRows(known, data)]).toEqual([0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 9, 9, 9, 9, 9])
  expect(known[10]).toBe(10)
})

test('what a try says that was set aside is shown, and the stage stays', async () => {
  const { ended } = await import('./ended')
  const left = ended(jobOf({ kind: 'pack', result: { summary: [], note: 'kept as Try 2' } }), 1, true)
  expect(left).toEqual({ summary: [], note: 'kept as Try 2' })
})

const proposal = (snapshot: number, name: string) => ({
  name,
  stretch: 1.25,
  snapshot,
  islands: 3,
  seam_m: 2,
  under_1_1: 0.9,
  under_1_5: 1,
  worst: 1.3,
  coverage: 0.7,
  objects: [{ key: '9/0', name: 'a', was: null, now: {}, why: '' }],
})

test('a proposal is looked at in all views, keeps everything else from being done, and is taken or left', async () => {
  const base = server.state.snapshot!
  const looked = { ...server.state, snapshot: 12, name: 'As proposed' }
  on('GET', /projects\/1\?look=12$/, () => json(looked))
  on('GET', /faults\?look=12$/, () => json([]))
  const jobs: string[] = []
  on('POST', /jobs$/, (body) => {
    jobs.push((body as { kind: string }).kind)
    return json(jobOf({ kind: 'propose' }))
  })
  on('GET', /jobs\/7/, () =>
    json(jobOf({ kind: 'propose', state: 'done', result: { base, proposals: [proposal(12, 'few seams')] } })),
  )
  q().select(['1/0'])
  await q().start('propose', {})
  await vi.waitFor(() => expect(q().proposals?.rows).toHaveLength(1))
  expect(q().state?.snapshot).toBe(base)
  await q().look(12)
  expect(q().state).toMatchObject({ snapshot: 12, name: 'As proposed' })
  expect([...q().selection]).toEqual(['9/0'])
  await q().start('mend', { action: 'flip' })
  await q().change({ settings: { padding_px: 1 } })
  await q().step('undo')
  expect(jobs).toEqual(['propose'])
  expect(q().message).toContain('You are looking at a proposal')
  await q().look(null)
  expect(q().state).toMatchObject({ snapshot: base, name: server.state.name })
  expect([...q().selection]).toEqual(['1/0'])
  await q().look(12)
  const taken: unknown[] = []
  on('POST', /take$/, (body) => {
    taken.push(body)
    return json(looked)
  })
  await q().take()
  expect(taken).toEqual([{ base, snapshot: 12 }])
  expect(q()).toMatchObject({ proposals: null, looked: null, message: '' })
  expect(q().state?.snapshot).toBe(12)
})

test('a proposal that is gone leads back to the project', async () => {
  on('GET', /look=12$/, () => json({ detail: 'This proposal is not there any more.' }, 400))
  await q().look(12)
  expect(q().looked).toBeNull()
  expect(q().state?.snapshot).toBe(server.state.snapshot)
})

test('what is picked stays so through other stages, and is picked on with where meshes are mended', () => {
  const face = { file: 1, object: 0, triangle: 3 }
  useQuilt.setState({
    stage: 'Mend',
    picks: 'faces',
    faces: new Map([['1/0:3', face]]) as unknown as ReturnType<typeof q>['faces'],
  })
  q().setStage('Arrange')
  expect(q()).toMatchObject({ picks: 'objects', stage: 'Arrange' })
  expect(q().faces.size).toBe(1)
  q().setStage('Mend')
  expect(q().picks).toBe('faces')
  q().pickNothing()
  q().setStage('Arrange')
  q().setStage('Mend')
  expect(q().picks).toBe('objects')
})
