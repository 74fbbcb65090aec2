const KEYS = /^[0-9.,\-]$/

const SOON = 1500 // ms in which numbers are still meant for a drag that is over

/** A pull on the table that took hold of nothing: numbers that are typed then were meant for it, and must not lead to another stage. */
export class Missed {
  private until = 0

  /** The pull goes on; `held` where something was taken. */
  pulled(held: boolean): void {
    this.until = held ? 0 : Infinity
  }

  ended(now: number): void {
    if (this.until === Infinity) this.until = now + SOON
  }

  /** Whether a key was meant for it; then so are those that follow. */
  takes(key: string, now: number): boolean {
    if (now > this.until || !KEYS.test(key)) return false
    this.until = Math.max(this.until, now + SOON)
    return true
  }
}

/** A distance that is typed while something is dragged: px along the way that the hand goes, or "12, -5" along u and v; degrees where it is turned. */
export class Typed {
  text = ''

  /** Take a key; whether it was one of these. */
  press(key: string): boolean {
    if (key === 'Backspace' && this.text) this.text = this.text.slice(0, -1)
    else if (KEYS.test(key)) this.text += key
    else return false
    return true
  }

  /** The numbers that stand there; null where they are none yet. */
  get numbers(): [number] | [number, number] | null {
    const parts = this.text.split(',').map((t) => t.trim())
    if (!parts[0] || parts.length > 2) return null
    const found = parts.filter(Boolean).map(Number)
    if (found.some((n) => !Number.isFinite(n))) return null
    return found as [number] | [number, number]
  }

  /** What is meant, where the hand went so far: u and v in px. One number counts along the axis that it went farther on, in its direction. */
  shift(u: number, v: number): [number, number] | null {
    const found = this.numbers
    if (!found) return null
    if (found.length === 2) return found
    return Math.abs(u) >= Math.abs(v) ? [found[0] * (u < 0 ? -1 : 1), 0] : [0, found[0] * (v < 0 ? -1 : 1)]
  }
}

/** Whether a key goes into a field of the page. */
export const intoField = (e: KeyboardEvent) =>
  e.target instanceof HTMLInputElement || e.target instanceof HTMLSelectElement
