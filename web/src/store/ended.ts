import type { Job } from '../api/client'
import { counted, DIRT } from '../words'
import type {
  Alike,
  Baked,
  Delivered,
  Dirty,
  Explanation,
  Newer,
  Packed,
  Proposal,
  Quilt,
  Readied,
  Refused,
  Unwrapped,
  Worth,
} from './types'

/**
 * What a job that is done leaves on the screen. It leads on to the next stage only where `unmoved`: whoever chose another stage meanwhile
 * stays there.
 */
export function ended(job: Job, layout: number, unmoved: boolean): Partial<Quilt> {
  const result = job.result as unknown
  switch (job.kind) {
    case 'pack': {
      const summary = (job.result.summary ?? []) as Packed[]
      // Where the project was changed meanwhile the layout is not on the table; or a part is not as sharp as the rest.
      if (job.result.note) return { summary, note: String(job.result.note) }
      return { summary }
    }
    case 'import': {
      const refused = (job.result.refused ?? []) as Refused[]
      // Whoever has to read why something did not come in stays where that is told.
      if (refused.length)
        return { refused: { rows: refused, count: Number(job.result.refused_count ?? refused.length) } }
      return { refused: null, ...(unmoved && { stage: 'Inspect' as const }) }
    }
    case 'open':
      return unmoved ? { stage: 'Inspect' } : {}
    case 'job': {
      const notes = (job.result.notes ?? []) as string[]
      return { ...(unmoved && { stage: 'Prove' as const }), note: notes.length ? notes.join(' ') : 'The job is done.' }
    }
    case 'save':
      return { note: `Saved: ${(Number(job.result.bytes ?? 0) / 2 ** 20).toFixed(1)} MB.` }
    case 'compare':
      return { newer: { ...(result as Newer), job: job.id } }
    case 'replace':
      return { newer: null }
    case 'bake': {
      const baked = { ...(result as Baked), job: job.id }
      return { baked, shownMap: baked.maps.includes('occlusion') ? 'occlusion' : (baked.maps[0] ?? '') }
    }
    case 'deliver': {
      const { carried, seen, seen_by_material, looks_other, notes } = job.result.figures as Delivered
      const perSheet = !!job.result.per_sheet
      return { delivered: { carried, seen, seen_by_material, looks_other, notes, perSheet, layout, job: job.id } }
    }
    case 'unwrap': {
      const unwrapped = (job.result.objects ?? []) as Unwrapped[]
      const n = Number(job.result.changed ?? 0)
      return { unwrapped, note: `${n} ${n === 1 ? 'object has' : 'objects have'} new UVs.` }
    }
    case 'copies': {
      const n = Number(job.result.changed ?? 0)
      const refused = [...((job.result.refused ?? []) as string[]), ...((job.result.told ?? []) as string[])]
      const done = `${n} ${n === 1 ? 'copy has' : 'copies have'} its UVs now.`
      return { unwrapped: (job.result.objects ?? []) as Unwrapped[], note: [done, ...refused].join(' ') }
    }
    case 'propose':
      return { proposals: { base: Number(job.result.base), rows: (job.result.proposals ?? []) as Proposal[] } }
    case 'seams': {
      const refused = (job.result.refused ?? []) as string[]
      const n = Number(job.result.changed ?? 0)
      return { note: [n > 1 ? `Done at ${n} places.` : 'Done.', ...new Set(refused)].join(' ') }
    }
    case 'dirt':
      return { dirty: result as Dirty }
    case 'clean': {
      const rows = (job.result.rows ?? []) as { counts: Record<string, number> }[]
      const total = new Map<string, number>()
      for (const r of rows) for (const [k, n] of Object.entries(r.counts)) total.set(k, (total.get(k) ?? 0) + n)
      const what = [...total].map(([k, n]) => `${n.toLocaleString('en')} ${DIRT[k] ?? k}`).join(', ')
      const cleaned = `${counted(rows.length, 'object')} cleaned: ${what}.`
      return { dirty: null, note: [cleaned, ...((job.result.notes ?? []) as string[])].join(' ') }
    }
    case 'shapes':
      return { alike: result as Alike }
    case 'further':
      return { note: [String(job.result.note ?? ''), ...((job.result.refused ?? []) as string[])].join(' ') }
    case 'seam_worth':
      return { seams: result as Worth }
    case 'ready':
      return { readied: result as Readied, ...(unmoved && { stage: 'Mend' as const }) }
    case 'explain':
      return { explanation: result as Explanation }
    case 'mend':
    case 'twins':
    case 'stack': {
      const n = Number(job.result.changed ?? 0)
      return { note: n ? `${n} ${n === 1 ? 'island' : 'islands'} changed.` : 'Nothing had to be changed.' }
    }
    default:
      return {}
  }
}
