import * as THREE from 'three'
import { LineMaterial } from 'three/examples/jsm/lines/LineMaterial.js'
import { LineSegments2 } from 'three/examples/jsm/lines/LineSegments2.js'
import { LineSegmentsGeometry } from 'three/examples/jsm/lines/LineSegmentsGeometry.js'
import { COLOURS } from '../colours'
import type { Edge, Point } from '../scene/edges'
import type { Piece } from '../scene/pieces'
import type { Owner } from '../scene/owner'

const MANY = 40_000 // segments; of more, seams are drawn as hair lines

/** Threads on the model: running stitch along seams, a double one along what is picked, a loose one for what a click would take. */
export class Stitches extends THREE.Group {
  private readonly seams = new THREE.Group()
  private readonly picked = new THREE.Group()
  private readonly hover = new THREE.Group()

  constructor(private readonly owned: Owner) {
    super()
    this.add(this.seams, this.picked, this.hover)
  }

  /** The seams of all pieces, or of chosen objects ("file/number"); `dash` is the length of a stitch in metres. */
  setSeams(pieces: Piece[], dash: number, only: ReadonlySet<string>): void {
    this.owned.release('seams')
    this.seams.clear()
    for (const p of pieces) {
      const { edge, position } = p.data
      const points: number[] = []
      p.data.header.objects.forEach((o, n) => {
        if (only.size && !only.has(`${p.file}/${n}`)) return
        for (let k = 2 * o.edge[0]; k < 2 * (o.edge[0] + o.edge[1]); k++) points.push(edge[k])
      })
      if (!points.length) continue
      const ends = new Float32Array(3 * points.length)
      points.forEach((v, k) => ends.set(position.subarray(3 * v, 3 * v + 3), 3 * k))
      if (points.length / 2 > MANY) {
        const lines = new THREE.BufferGeometry().setAttribute('position', new THREE.BufferAttribute(ends, 3))
        const material = new THREE.LineBasicMaterial({ color: COLOURS.inkDeep })
        this.owned.own('seams', lines)
        this.owned.own('seams', material)
        this.seams.add(new THREE.LineSegments(lines, material))
      } else this.seams.add(this.thread(ends, 'seams', COLOURS.inkDeep, 1.3, dash))
    }
  }

  /** What is picked: a double stitch along edges, a knot at points. */
  setPicked(edges: Iterable<Edge>, points: Iterable<Point>): void {
    this.owned.release('picked')
    this.picked.clear()
    this.knots(this.picked, 'picked', points, COLOURS.madder)
    const ends = endsOf(edges)
    if (!ends.length) return
    this.picked.add(
      this.thread(ends, 'picked', COLOURS.madder, 6, 0),
      this.thread(ends, 'picked', COLOURS.washed, 2, 0),
    )
  }

  /** What a click would take. */
  setHover(edges: Iterable<Edge>, points: Iterable<Point> = []): void {
    this.owned.release('hover')
    this.hover.clear()
    this.knots(this.hover, 'hover', points, COLOURS.weld)
    const ends = endsOf(edges)
    if (ends.length) this.hover.add(this.thread(ends, 'hover', COLOURS.weld, 4, 0))
  }

  /** The same width in pixels whatever the size of the picture. */
  resize(w: number, h: number): void {
    this.traverse((o) => {
      if (o instanceof LineSegments2) o.material.resolution.set(w, h)
    })
  }

  private knots(into: THREE.Group, group: string, points: Iterable<Point>, color: string): void {
    const at = [...points].flatMap((p) => p.at)
    if (!at.length) return
    const geometry = this.owned.own(group, new THREE.BufferGeometry())
    geometry.setAttribute('position', new THREE.Float32BufferAttribute(at, 3))
    const look = { color, size: 9, sizeAttenuation: false, depthTest: false, transparent: true }
    into.add(new THREE.Points(geometry, this.owned.own(group, new THREE.PointsMaterial(look))))
  }

  private thread(ends: Float32Array, group: string, color: string, linewidth: number, dash: number): LineSegments2 {
    const geometry = this.owned.own(group, new LineSegmentsGeometry())
    geometry.setPositions(ends)
    const material = this.owned.own(
      group,
      new LineMaterial({ color, linewidth, dashed: dash > 0, dashSize: dash, gapSize: 0.7 * dash }),
    )
    // Nearer than the faces that they lie on, never through others.
    Object.assign(material, { polygonOffset: true, polygonOffsetFactor: -4, polygonOffsetUnits: -8 })
    material.onBeforeCompile = (shader) => {
      shader.vertexShader = shader.vertexShader.replace(
        'gl_Position = clip;',
        'clip.z -= 0.0004 * clip.w;\n\t\t\tgl_Position = clip;',
      )
    }
    const lines = new LineSegments2(geometry, material)
    if (dash > 0) lines.computeLineDistances()
    return lines
  }
}

function endsOf(edges: Iterable<Edge>): Float32Array {
  return new Float32Array([...edges].flatMap((e) => [...e.a, ...e.b]))
}
