import { useKeys, useMakeKey, useRetireKey } from '../data/service'
import { useTexts } from '../texts'
import { Quiet, Row } from './Card'
import { Notice } from './Notice'
import { Rows } from './Rows'
import { SureButton } from './SureButton'

/** The keys that seal links: rotation, and what would stop working by it. */
export function Keys() {
  const said = useTexts().keys
  const { data, error } = useKeys()
  const make = useMakeKey()
  const retire = useRetireKey()
  const failed = error ?? make.error ?? retire.error
  return (
    <>
      <Quiet>{said.hint}</Quiet>
      {failed && <Notice error={failed} />}
      <Rows
        label={said.title}
        rows={data?.keys ?? []}
        idOf={(key) => key.id}
        textOf={(key) => key.id}
        empty=""
        columns={[
          { id: 'id', name: said.id, width: '1fr', cell: (key) => key.id },
          {
            id: 'current',
            name: said.title,
            width: '1.4fr',
            hidesName: true,
            cell: (key) => (key.current ? said.current : said.older),
          },
          {
            id: 'links',
            name: said.title,
            width: '1.6fr',
            hidesName: true,
            cell: (key) => said.links(key.links),
          },
          {
            id: 'retire',
            name: said.retire,
            width: 260,
            card: 'end',
            hidesName: true,
            cell: (key) =>
              !key.current && (
                <SureButton
                  words={said.retire}
                  sure={said.retireSure(key.links)}
                  label={said.retireOf(key.id)}
                  sureLabel={`${said.retireOf(key.id)}. ${said.retireSure(key.links)}`}
                  onPress={() => retire.mutate(key.id)}
                />
              ),
          },
        ]}
      />
      <Quiet>{said.outside}</Quiet>
      <Row>
        <SureButton
          words={said.rotate}
          sure={said.rotateSure}
          isDisabled={make.isPending}
          onPress={() => make.mutate(undefined)}
        />
      </Row>
    </>
  )
}
