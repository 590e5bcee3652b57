/** What stands to the left of the axis, and to the right. */
export type Sides = readonly [string, string]

/** The sides of two versions that are compared. */
export const versionSides = (c: { incumbent: string; candidate: string }): Sides => [
  `${c.incumbent} incumbent`,
  `${c.candidate} candidate`,
]
