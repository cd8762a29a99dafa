import { root } from '../api/root'
import { usePage } from '../data/page'

export function NotFound() {
  const heading = usePage('Not found')
  return (
    <>
      <h1 {...heading}>There is no such page</h1>
      <p>
        The console has no page of this address. Its pages begin with the{' '}
        <a href={`${root}/console/`}>files</a>.
      </p>
    </>
  )
}
