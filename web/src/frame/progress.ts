import type { Job } from '../api/client'

type Progress = Job['progress']

/** Which part of a job is done, 0 to 1: by the time that it has, or by its steps; null where that is not known. */
export function partOf(p: Progress): number | null {
  if (Number(p.of) > 0) return Math.min(1, Number(p.seconds) / Number(p.of))
  return Number(p.part) > 0 ? Number(p.part) : null
}

/** The figure behind what is being done: seconds of those that it has, or what part is done, or how long it takes so far. */
export function figure(p: Progress, seconds: number): string {
  const cover = p.coverage === undefined ? '' : `, best coverage ${(100 * Number(p.coverage)).toFixed(1)} %`
  if (Number(p.of) > 0) return ` ${Number(p.seconds).toFixed(0)} of ${Number(p.of).toFixed(0)} s${cover}`
  const part = partOf(p)
  const far = part === null ? '' : `, ${(100 * part).toFixed(0)} %`
  return `${far}${seconds < 1 ? '' : `, ${seconds.toFixed(0)} s`}`
}
