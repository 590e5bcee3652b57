export const members = ['text', 'kind', 'actor', 'subject', 'project', 'within', 'after', 'until'] as const
