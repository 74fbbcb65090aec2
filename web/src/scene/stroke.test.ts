import { describe, expect, it } from 'vitest'
import type { Live } from './live'
import { Stroke, type Answer, type Dab } from './stroke'

interface Asked {
  done: number
  dabs: Dab[]
}

/** A stroke whose questions are answered by a function; what was shown is counted. */
function stroke(answer: (asked: Asked) => Partial<Answer> | undefined) {
  const asked: Asked[] = []
  const shown: number[][] = []
  const live = { set: (_: number, corners: number[]) => void shown.push(corners) } as unknown as Live
  const ask = (done: number, dabs: Dab[]) => {
    asked.push({ done, dabs })
    const found = answer({ done, dabs })
    return Promise.resolve(found && { corners: [1], uv: [0, 0], done: done + dabs.length, again: false, ...found })
  }
  return { made: new Stroke(live, 0, 3, ask, () => undefined), asked, shown }
}

describe('a stroke', () => {
  it('sends every dab once, in order, and shows what comes back', async () => {
    const { made, asked, shown } = stroke(() => ({}))
    for (let k = 0; k < 40; k++) made.add([0.01 * k, 0, 0.1, 0.5])
    expect(await made.end()).toBe(true)
    expect(asked.flatMap((a) => a.dabs)).toEqual(made.dabs)
    expect(asked.map((a) => a.done)).toEqual(
      asked.map((_, n) => asked.slice(0, n).reduce((s, a) => s + a.dabs.length, 0)),
    )
    expect(shown).toHaveLength(asked.length)
  })

  it('leaves no gaps where the pointer was quick', () => {
    const { made } = stroke(() => ({}))
    made.add([0, 0, 0.1, 1])
    made.add([0.3, 0, 0.1, 1])
    const far = made.dabs.slice(1).map((d, k) => d[0] - made.dabs[k][0])
    expect(Math.max(...far)).toBeLessThanOrEqual(0.05 + 1e-12)
    expect(made.dabs.at(-1)).toEqual([0.3, 0, 0.1, 1])
  })

  it('begins again where the server does not know it any more', async () => {
    let lost = true
    const { made, asked } = stroke(({ done }) => {
      if (!done || !lost) return {}
      lost = false
      return { corners: [], uv: [], done: 0, again: true }
    })
    for (let k = 0; k < 20; k++) made.add([0, 0, 0.1, 1])
    expect(await made.end()).toBe(true)
    const begun = asked.filter((a) => a.done === 0)
    expect(begun).toHaveLength(2)
  })

  it('ends where a dab is refused', async () => {
    const { made, asked } = stroke(() => undefined)
    made.add([0, 0, 0.1, 1])
    expect(await made.end()).toBe(false)
    made.add([0, 0, 0.1, 1])
    expect(await made.end()).toBe(false)
    expect(asked).toHaveLength(1)
  })
})
