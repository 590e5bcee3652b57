/** Gives a file to whoever looks at the page. */
export function save(name: string, type: string, content: string | Blob) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(typeof content === 'string' ? new Blob([content], { type }) : content)
  link.download = name
  link.click()
  // It is read when the download has begun.
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000)
}

/** The drawing in an element as SVG by itself: colours that the theme names are written out. */
export function svgIn(element: Element | null): string | undefined {
  const drawing = element?.querySelector('svg.recharts-surface')
  if (!drawing) return undefined
  const copy = drawing.cloneNode(true) as SVGElement
  copy.setAttribute('xmlns', 'http://www.w3.org/2000/svg')
  const { width, height } = drawing.getBoundingClientRect()
  copy.setAttribute('width', String(width))
  copy.setAttribute('height', String(height))
  const theme = getComputedStyle(document.documentElement)
  copy.style.background = theme.getPropertyValue('--panel')
  copy.style.fontFamily = 'sans-serif'
  return new XMLSerializer()
    .serializeToString(copy)
    .replace(/var\((--[\w-]+)\)/g, (_, name: string) => theme.getPropertyValue(name).trim())
}

/** An SVG as a PNG of twice its size, so that it is sharp where it is pasted. */
export function pngOf(svg: string, done: (png: Blob) => void) {
  const picture = new Image()
  picture.onload = () => {
    const canvas = document.createElement('canvas')
    canvas.width = picture.width * 2
    canvas.height = picture.height * 2
    canvas.getContext('2d')?.drawImage(picture, 0, 0, canvas.width, canvas.height)
    canvas.toBlob((png) => png && done(png), 'image/png')
  }
  picture.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(svg)}`
}
