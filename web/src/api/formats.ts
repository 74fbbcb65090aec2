import { useEffect, useState } from 'react'
import { api } from './client'
import type { components } from './schema'

export type Format = components['schemas']['FormatOut']

let known: Promise<Format[]> | null = null

/** The formats that the server reads and writes; empty until it has told. */
export function useFormats(): Format[] {
  const [formats, setFormats] = useState<Format[]>([])
  useEffect(() => {
    known ??= api.GET('/api/formats').then(({ data }) => data ?? [])
    void known.then(setFormats)
  }, [])
  return formats
}

/** Names in a sentence: "A, B and C". */
export function listed(names: string[], word = 'and'): string {
  return names.length < 2 ? names.join('') : `${names.slice(0, -1).join(', ')} ${word} ${names[names.length - 1]}`
}

/** The titles of the formats of a kind, in a sentence. */
export function titles(formats: Format[], which: (f: Format) => boolean = () => true, word = 'and'): string {
  return listed(
    formats.filter(which).map((f) => f.title),
    word,
  )
}

/** The format of a file. */
export function formatOf(formats: Format[], name: string): Format | undefined {
  return formats.find((f) => f.endings.some((e) => name.toLowerCase().endsWith(e)))
}
