import { useEffect } from 'react'

const scrolling = '.overflow-auto, .overflow-x-auto, .overflow-y-auto'

/** What can be scrolled can be reached with the keyboard: everything on the page that has more in it than it shows. */
export function useReachableScrolling() {
  useEffect(() => {
    const mark = () => {
      for (const e of document.querySelectorAll<HTMLElement>(scrolling)) {
        const over = e.scrollWidth > e.clientWidth + 1 || e.scrollHeight > e.clientHeight + 1
        if (over && !e.hasAttribute('tabindex')) {
          e.tabIndex = 0
          e.dataset.scrolls = ''
        } else if (!over && 'scrolls' in e.dataset) {
          e.removeAttribute('tabindex')
          delete e.dataset.scrolls
        }
      }
    }
    let waits = 0
    const soon = () => {
      window.cancelAnimationFrame(waits)
      waits = window.requestAnimationFrame(mark)
    }
    const changes = new MutationObserver(soon)
    changes.observe(document.body, { childList: true, subtree: true, characterData: true })
    window.addEventListener('resize', soon)
    soon()
    return () => {
      window.cancelAnimationFrame(waits)
      changes.disconnect()
      window.removeEventListener('resize', soon)
    }
  }, [])
}
