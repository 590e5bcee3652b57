import '@xyflow/react/dist/base.css'
import { type Node } from '@xyflow/react'
import type { Trace } from '../api/client'

type Data = { node: Trace['nodes'][number]; root: boolean; compact: boolean }

export type TraceNode = Node<Data, 'thing'>

/** From so many things on each is drawn in one line, and the view begins at the root instead of showing all at once. */
export const many = 60

export const whole = { width: 190, height: 46 }

export const small = { width: 168, height: 26 }

export const gap = { between: 14, columns: 26, ranks: 80 }
