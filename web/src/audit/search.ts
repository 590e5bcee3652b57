import { type AuditSearch } from '../api/people'
import { members } from './members'

export const spans = {
  '': 'any time',
  '1h': 'the last hour',
  '24h': 'the last day',
  '168h': 'the last week',
  '720h': 'the last 30 days',
  between: 'between…',
} as const

export const kinds = [
  '',
  'alert',
  'caller',
  'comment',
  'data',
  'endpoint',
  'environment',
  'files',
  'key',
  'label',
  'member',
  'model',
  'person',
  'placement',
  'project',
  'promotion',
  'role',
  'run',
  'secret',
  'service',
  'settings',
  'split',
  'token',
  'version',
  'webhook',
]

export function queryOf(params: URLSearchParams): AuditSearch {
  return Object.fromEntries(members.map((m) => [m, params.get(m) ?? '']).filter(([, v]) => v !== ''))
}
