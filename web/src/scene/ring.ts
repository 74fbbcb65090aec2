import { themed } from '../colours'

/** The ring that shows how wide the brush is, over a picture. */
export class Ring {
  private readonly element = document.createElement('div')

  constructor(host: HTMLElement) {
    Object.assign(this.element.style, {
      position: 'absolute',
      pointerEvents: 'none',
      border: `1.5px solid ${themed('indigo')}`,
      borderRadius: '50%',
      display: 'none',
    })
    this.element.dataset.testid = 'ring'
    host.append(this.element)
  }

  /** Around a place of the host, in pixels; the stronger the brush, the fuller the ring. */
  show(x: number, y: number, radius: number, strength: number): void {
    Object.assign(this.element.style, {
      display: '',
      left: `${x - radius}px`,
      top: `${y - radius}px`,
      width: `${2 * radius}px`,
      height: `${2 * radius}px`,
      background: `color-mix(in srgb, ${themed('indigo')} ${Math.round(22 * strength)}%, transparent)`,
    })
  }

  hide(): void {
    this.element.style.display = 'none'
  }

  dispose(): void {
    this.element.remove()
  }
}
