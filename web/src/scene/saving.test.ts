import { expect, test } from 'vitest'
import type { Fault, ObjectRow, State } from '../api/client'
import { beyondSaving, followed, objectsOf } from './saving'

const object = (key: string, first: number, islands: number, more: Partial<ObjectRow> = {}) =>
  ({ key, file: Number(key[0]), first_island: first, islands, bare: 0, left_out: false, ...more }) as ObjectRow
const state = {
  objects: [object('1/0', 0, 2), object('1/1', 2, 3), object('1/2', 5, 0, { bare: 12 }), object('2/0', 0, 4)],
} as State
const fault = (repair: string, islands: [number, number][]) => ({ repair, islands }) as unknown as Fault

test('objects without UVs and those with islands that only new UVs mend are beyond saving', () => {
  expect(beyondSaving(state, [])).toEqual(['1/2'])
  expect(beyondSaving(state, [fault('flip', [[1, 0]]), fault('unwrap', [[1, 4]])])).toEqual(['1/1', '1/2'])
  expect(beyondSaving(state, [fault('unwrap', [[2, 3]])])).toEqual(['1/2', '2/0'])
  const out = { objects: [object('1/2', 0, 0, { bare: 3, left_out: true })] } as State
  expect(beyondSaving(out, [])).toEqual([])
})

test('a selection of islands means their objects', () => {
  expect(objectsOf(state, new Set(['1:3', '2/0']))).toEqual(['1/1', '2/0'])
  expect(objectsOf(state, new Set(['2:9']))).toEqual([])
})

const named = (ids: number[]) => ids.map((id) => ({ id, name: 'a.obj', warnings: [], materials: [] }))
const old = { ...state, files: named([1, 2]) } as unknown as State
const renewed = {
  objects: [object('9/0', 0, 3), object('9/1', 3, 3), object('2/0', 0, 4)],
  files: named([9, 2]),
} as unknown as State

/** A file of six triangles, each with the island that it belongs to. */
const numbered = (file: number, key: string, islands: number[]) => ({
  file,
  key,
  data: { index: islands.flatMap((_, t) => [3 * t, 3 * t + 1, 3 * t + 2]), island: islands.flatMap((i) => [i, i, i]) },
})
const was = [numbered(1, '1:0', [0, 0, 1, 1, 2, 2]), numbered(2, '2:0', [0, 1, 2, 3, 3, 3])]
const is = [numbered(9, '9:0', [0, 0, 3, 1, 2, 2]), was[1]]

test('a selection follows the file that stands where the old one stood, and back', () => {
  expect([...followed(new Set(['1/1', '2/0']), old, renewed, was, is)]).toEqual(['9/1', '2/0'])
  expect([...followed(new Set(['9/1']), renewed, old, is, was)]).toEqual(['1/1'])
})

test('an island that was cut stays selected as its parts, and as itself once that is undone; nothing else is', () => {
  expect([...followed(new Set(['1:1', '2:1']), old, renewed, was, is)]).toEqual(['9:3', '9:1', '2:1'])
  expect([...followed(new Set(['9:3', '9:1']), renewed, old, is, was)]).toEqual(['1:1'])
  expect([...followed(new Set(['1:0']), old, renewed, was, is)]).toEqual(['9:0'])
})

test('islands of a file with other triangles are let go: its object is more than was meant', () => {
  const other = [numbered(9, '9:0', [0, 1]), was[1]]
  expect(followed(new Set(['1:1']), old, renewed, was, other).size).toBe(0)
})

test('what is gone is selected no more', () => {
  const gone = { ...renewed, files: named([2]) } as unknown as State
  expect(followed(new Set(['1/1', '1:1']), old, gone, was, [was[1]]).size).toBe(0)
})
