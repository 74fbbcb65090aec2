import { create } from 'zustand'

const KEY = 'rulers'
const useStore = create<{ on: boolean }>(() => ({ on: localStorage.getItem(KEY) === 'on' }))

/** Whether rulers stand along the table. */
export const useRulers = () => useStore((s) => s.on)

export function turnRulers(): void {
  const on = !useStore.getState().on
  localStorage.setItem(KEY, on ? 'on' : 'off')
  useStore.setState({ on })
}
