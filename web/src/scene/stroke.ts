import type { components } from '../api/schema'
import type { Live } from './live'

/** Where the brush is: u and v in the island's own UVs, its radius there, its strength. */
export type Dab = [u: number, v: number, radius: number, strength: number]
export type Answer = components['schemas']['BrushOut']

const AT_ONCE = 12 // dabs in one question
const WAITING = 3 // dabs that may wait for an answer while the brush stands still

/** A stroke of the brush over one island: dabs go out one question after the other, and what comes back is shown. */
export class Stroke {
  readonly dabs: Dab[] = []
  private done = 0
  private running: Promise<void> | null = null
  private broken = false

  constructor(
    readonly live: Live,
    readonly object: number,
    readonly island: number,
    private readonly ask: (done: number, dabs: Dab[]) => Promise<Answer | undefined>,
    private readonly redraw: () => void,
  ) {}

  /** Whether a brush that stands still may go on: not while answers are behind. */
  get idle(): boolean {
    return this.dabs.length - this.done < WAITING
  }

  /** One more dab, with others on the way to it where it is far from the last one. */
  add([u, v, radius, strength]: Dab): void {
    const last = this.dabs.at(-1)
    const far = last ? Math.hypot(u - last[0], v - last[1]) : 0
    const steps = Math.min(20, Math.max(1, Math.ceil(far / (0.5 * radius))))
    for (let k = 1; k <= steps; k++) {
      const t = k / steps
      const [a, b] = last ?? [u, v]
      this.dabs.push([a + t * (u - a), b + t * (v - b), radius, strength])
    }
    this.running ??= this.run().finally(() => (this.running = null))
  }

  private async run(): Promise<void> {
    while (this.done < this.dabs.length && !this.broken) {
      const answer = await this.ask(this.done, this.dabs.slice(this.done, this.done + AT_ONCE))
      if (!answer) {
        this.broken = true
        return
      }
      this.done = answer.done
      const { corners, uv } = answer
      if (corners.length) this.live.set(this.object, corners, (k) => [uv[2 * k], uv[2 * k + 1]])
      this.redraw()
    }
  }

  /** All dabs are answered; false where the server refused one. */
  async end(): Promise<boolean> {
    while (this.running) await this.running
    return !this.broken
  }
}
