/** Class names put together; what is not wanted is left out. */
export const classes = (...names: (string | undefined | false)[]) => names.filter(Boolean).join(' ')
