import * as THREE from 'three'
import type { State } from '../api/client'
import { placeOf, tilesOf, type Flat } from './sheets'
import { COLOURS } from '../colours'
import type { Delivered } from '../store/types'

const kept = new Map<string, Promise<THREE.Texture>>()

/** A picture as a texture, loaded once; drawn again by `ready`. */
export function loadPicture(sha: string, px = 2048): Promise<THREE.Texture> {
  return loadUrl(`/api/pictures/${sha}?px=${px}`)
}

function loadUrl(url: string): Promise<THREE.Texture> {
  let found = kept.get(url)
  if (!found) {
    found = new THREE.TextureLoader().loadAsync(url).then((t) => {
      // Colours are shown as they are stored: the views light them themselves, in no linear space.
      t.colorSpace = THREE.NoColorSpace
      t.wrapS = t.wrapT = THREE.RepeatWrapping
      t.anisotropy = 4
      return t
    })
    kept.set(url, found)
  }
  return found
}

/** Let go of all pictures that were loaded: with the project that showed them. */
export function dropPictures(): void {
  for (const picture of kept.values()) void picture.then((t) => t.dispose()).catch(() => undefined)
  kept.clear()
}

/** Hash of the base colour picture of each material of a file; null for none. */
export function coloursOf(state: State, file: number): (string | null)[] {
  const materials = state.files.find((f) => f.id === file)?.materials ?? []
  return materials.map((m) => m.images?.['base colour'] ?? null)
}

export interface Named {
  sha: string
  name: string
}

/** All pictures that came with the files, by what they are called. */
export function ownPictures(state: State): Named[] {
  const found = new Map<string, Named>()
  for (const f of state.files)
    for (const m of f.materials)
      for (const [kind, sha] of Object.entries(m.images ?? {}))
        if (!found.has(sha)) found.set(sha, { sha, name: `${m.name}, ${kind}` })
  return [...found.values()]
}

/** Where the maps of a test bake are. */
export interface BakedMaps {
  job: number
  sheet: number
  tiles: { tile: number }[]
}

/** The pictures that lie under the tiles of a sheet; a map of a test bake of it takes their place. */
export async function underTiles(
  state: State,
  flat: Flat,
  baked: BakedMaps | null,
  kind: string,
): Promise<Map<number, THREE.Texture>> {
  const out = new Map<number, THREE.Texture>()
  if (baked?.sheet === flat.sheet.id && kind) {
    for (const { tile } of baked.tiles)
      out.set(tile, await loadUrl(`/api/jobs/${baked.job}/baked/${baked.sheet}/${tile}/${kind}.png`))
    return out
  }
  for (const tile of tilesOf(flat.sheet)) {
    const picture = state.settings.pictures?.[`${flat.sheet.id}:${tile}`]
    if (picture) out.set(tile, await loadPicture(picture.sha))
  }
  return out
}

/** The new base colour of a sheet's tiles, as a delivery carried it over. */
export async function carriedTiles(delivered: Delivered | null, flat: Flat): Promise<Map<number, THREE.Texture>> {
  const out = new Map<number, THREE.Texture>()
  for (const [n, c] of delivered?.carried.entries() ?? [])
    if (c.sheet === flat.sheet.name && c.kind === 'base colour')
      out.set(c.tile, await loadUrl(`/api/jobs/${delivered!.job}/carried/${n}.png`))
  return out
}

/** The plain colour of each material of a file, which its picture is multiplied by. */
export function tintsOf(state: State, file: number): (readonly [number, number, number])[] {
  const materials = state.files.find((f) => f.id === file)?.materials ?? []
  return materials.map((m) => {
    const [r, g, b] = m.colour ?? [1, 1, 1]
    return [r, g, b]
  })
}

/** The tiles' pictures as one texture that reaches over the whole sheet; null where there are none. */
export function joinedPictures(flat: Flat, pictures: Map<number, THREE.Texture>): THREE.Texture | null {
  if (!pictures.size) return null
  const { columns, rows } = flat.sheet
  const step = Math.max(64, Math.floor(4096 / Math.max(columns, rows, 2)))
  const canvas = document.createElement('canvas')
  Object.assign(canvas, { width: step * columns, height: step * rows })
  const pen = canvas.getContext('2d')!
  pen.fillStyle = COLOURS.patch
  pen.fillRect(0, 0, canvas.width, canvas.height)
  for (const [tile, texture] of pictures) {
    const [column, row] = placeOf(tile)
    pen.drawImage(texture.image as HTMLImageElement, column * step, (rows - 1 - row) * step, step, step)
  }
  const joined = new THREE.CanvasTexture(canvas)
  joined.anisotropy = 4
  return joined
}

/** The UDIM number in a picture's file name, as in `wood.1002.png`. */
export function tileInName(name: string): number | null {
  const found = /[._](1\d{3})\.[a-z0-9]+$/i.exec(name)
  return found ? Number(found[1]) : null
}

export const isPicture = (name: string) => /\.(png|jpe?g|tiff?|tga|bmp|webp)$/i.test(name)
