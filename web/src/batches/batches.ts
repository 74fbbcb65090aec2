import { useCallback, useEffect, useState } from 'react'
import { api } from '../api/client'
import type { components } from '../api/schema'

export type Batch = components['schemas']['BatchOut']
export type Asset = components['schemas']['AssetOut']
export type Folder = components['schemas']['FolderOut']

const OFTEN = 1500 // ms

export const isOver = (b: Batch) => b.state !== 'waiting' && b.state !== 'running'

/** What may be asked of a batch's assets, in the order in which somebody would look. */
export const SHOWN = {
  all: 'All',
  failed: 'Failed',
  outside: 'Outside the limits',
  unfit: 'Not fit',
  fine: 'Fine',
  waiting: 'Waiting',
} as const
export type Shown = keyof typeof SHOWN

/** How far a batch is, in words. `seconds` goes on while it is at work. */
export function stateOf(b: Batch): string {
  const of = `${b.done.toLocaleString('en')} of ${b.total.toLocaleString('en')}`
  if (b.state === 'waiting') return 'Waiting for its turn'
  if (b.stopping) return `Stopping at ${of}`
  if (b.state === 'running') {
    if (!b.total) return 'Looking for its assets'
    const left = b.done ? `, about ${span((b.seconds / b.done) * (b.total - b.done))} left` : ''
    return `${of} done${left}`
  }
  if (b.state === 'failed') return b.error
  if (b.state === 'done') return `${of} done in ${span(b.seconds)}`
  return `${b.state === 'stopped' ? 'Stopped' : 'Interrupted'} at ${of}. ${b.error}`
}

/** Seconds as somebody would say them. */
export function span(seconds: number): string {
  if (seconds < 90) return `${Math.round(seconds)} s`
  if (seconds < 5400) return `${Math.round(seconds / 60)} min`
  return `${(seconds / 3600).toFixed(1)} h`
}

/** Where densities stand on one log scale of some width; it reaches over all of them and over the limits. */
export function scaleOf(densities: number[], limits: (number | null)[], width: number): (d: number) => number {
  const all = [...densities, ...limits].filter((d): d is number => d != null && d > 0)
  const low = Math.min(...all) / 1.3
  const high = Math.max(...all) * 1.3
  return (d) => Math.min(width, Math.max(0, (width * Math.log(d / low)) / Math.log(high / low)))
}

/** What is asked again and again while somebody looks. */
export function useAsked(ask: () => void, again: boolean) {
  useEffect(() => {
    ask()
    if (!again) return
    const timer = setInterval(() => document.hidden || ask(), OFTEN)
    return () => clearInterval(timer)
  }, [ask, again])
}

/** All batches, and the library's top folder; null where this server has none. */
export function useBatches(): [batches: Batch[], library: Folder | null, set: (b: Batch[]) => void] {
  const [batches, setBatches] = useState<Batch[]>([])
  const [library, setLibrary] = useState<Folder | null>(null)
  useEffect(() => void api.GET('/api/library').then(({ data }) => setLibrary(data ?? null)), [])
  const ask = useCallback(() => void api.GET('/api/batches').then(({ data }) => data && setBatches(data)), [])
  useAsked(
    ask,
    batches.some((b) => !isOver(b)),
  )
  return [batches, library, setBatches]
}
