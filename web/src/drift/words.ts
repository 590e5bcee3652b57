/** What columns are held against, in words. */
export const againstWords = {
  reference: 'the reference profile',
  before: 'the time before',
  week: 'the same hours of the weeks before',
  main: 'main at the same time',
} as const
