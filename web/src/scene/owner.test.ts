import { expect, test, vi } from 'vitest'
import { Owner } from './owner'

test('a group that is released is disposed of once, and the rest with the view', () => {
  const owner = new Owner()
  const [a, b, c] = [0, 1, 2].map(() => ({ dispose: vi.fn() }))
  owner.own('dress', a)
  owner.own('dress', b)
  expect(owner.own('view', c)).toBe(c)
  owner.release('dress')
  owner.release('dress')
  expect(a.dispose).toHaveBeenCalledTimes(1)
  expect(b.dispose).toHaveBeenCalledTimes(1)
  expect(c.dispose).not.toHaveBeenCalled()
  owner.release()
  owner.release()
  expect(c.dispose).toHaveBeenCalledTimes(1)
})
