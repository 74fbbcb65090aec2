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

test('a selection follows the file that stands where the old one stood, and back', () => {
  expect([...followed(new Set(['1/1', '2/0']), old, renewed)]).toEqual(['9/1', '2/0'])
  expect([...followed(new Set(['9/1']), renewed, old)]).toEqual(['1/1'])
})

test('of islands that may be others now, their objects stay selected; islands that did not change stay', () => {
  expect([...followed(new Set(['1:3', '2:1']), old, renewed)]).toEqual(['9/1', '2:1'])
})

test('what is gone is selected no more', () => {
  expect(followed(new Set(['1/1']), old, { ...renewed, files: named([2]) } as unknown as State).size).toBe(0)
})
