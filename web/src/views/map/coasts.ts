import { geoArea } from 'd3-geo'
import { feature } from 'topojson-client'

import { HubProblem, type Problem } from '@/api/client'

export interface Coasts {
  layer: GeoJSON.FeatureCollection
  /** Whether somebody gave it; otherwise it is the world's (Natural Earth), which come with Kuppel. */
  isOwn: boolean
}

/** The coasts behind the map. */
export async function coasts(): Promise<Coasts> {
  const response = await fetch('/api/map-layer')
  const told: unknown = await response.json()
  if (!response.ok) throw new HubProblem(told as Partial<Problem>)
  if (told) return { layer: rewound(told as GeoJSON.FeatureCollection), isOwn: true }
  const world = (await import('world-atlas/land-50m.json')).default as unknown as Parameters<typeof feature>[0]
  return { layer: feature(world, 'land') as unknown as GeoJSON.FeatureCollection, isOwn: false }
}

/* RFC 7946 goes round a polygon one way, what draws on a sphere the other: a polygon of more than half the earth is one
   that was meant to be the rest. */
function rewound(layer: GeoJSON.FeatureCollection): GeoJSON.FeatureCollection {
  const turned = (rings: GeoJSON.Position[][]): GeoJSON.Position[][] =>
    geoArea({ type: 'Polygon', coordinates: rings }) > 2 * Math.PI ? rings.map((ring) => [...ring].reverse()) : rings
  const features = layer.features.map((one) => {
    const shape = one.geometry
    if (shape.type === 'Polygon') return { ...one, geometry: { ...shape, coordinates: turned(shape.coordinates) } }
    if (shape.type === 'MultiPolygon')
      return { ...one, geometry: { ...shape, coordinates: shape.coordinates.map(turned) } }
    return one
  })
  return { ...layer, features }
}

/** Which positions lie on a layer, or just beside it. */
export function within([[west, south], [east, north]]: [[number, number], [number, number]]) {
  return ([x = 0, y = 0]: GeoJSON.Position) => x >= west && x <= east && y >= south - 0.2 && y <= north + 0.6
}
