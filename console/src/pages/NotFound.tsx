import { root } from '../api/root'
import { usePage } from '../data/page'
import { useTexts } from '../texts'

export function NotFound() {
  const texts = useTexts().notFound
  const heading = usePage(texts.title)
  return (
    <>
      <h1 {...heading}>{texts.heading}</h1>
      <p>
        {texts.text}
        <a href={`${root}/console/`}>{texts.files}</a>.
      </p>
    </>
  )
}
