import type { Job } from '../api/client'

/** The figure behind what is being done: seconds of those that it has, or what part is done, or how long it takes so far. */
export function figure({ progress: p, part }: Pick<Job, 'progress' | 'part'>, seconds: number): string {
  const cover = p.coverage === undefined ? '' : `, best coverage ${(100 * Number(p.coverage)).toFixed(1)} %`
  if (Number(p.of) > 0) return ` ${Number(p.seconds).toFixed(0)} of ${Number(p.of).toFixed(0)} s${cover}`
  const far = part == null ? '' : `, ${(100 * part).toFixed(0)} %`
  return `${far}${seconds < 1 ? '' : `, ${seconds.toFixed(0)} s`}`
}
