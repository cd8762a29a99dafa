import type { components } from '../../api/schema.gen'
import { Notice } from '../../components/Notice'
import { Rows } from '../../components/Rows'
import { useExpectations } from '../../data/access'
import { useTexts } from '../../texts'
import { token } from '../../theme'
import { SafeText } from '../../components/SafeText'

type Checked = components['schemas']['CheckedShape']

export function Expectations() {
  const { data, error } = useExpectations()
  return (
    <>
      {error && <Notice error={error} />}
      <CheckedRows checked={data?.expectations ?? []} />
    </>
  )
}

/** Expectations, and whether the rules meet them. */
export function CheckedRows({ checked }: { checked: readonly Checked[] }) {
  const said = useTexts().access
  return (
    <Rows
      label={said.expectations}
      rows={checked}
      idOf={(one) => String(one.line)}
      textOf={(one) => one.address}
      empty={said.noExpectations}
      columns={[
        { id: 'what', name: said.file, width: '2.4fr', cell: (one) => <SafeText>{one.address}</SafeText> },
        { id: 'who', name: said.who, width: '1.4fr', cell: (one) => one.who },
        { id: 'action', name: said.action, width: '1fr', cell: (one) => one.action },
        {
          id: 'expected',
          name: said.expected,
          width: '1fr',
          cell: (one) => (one.expected === 'allowed' ? said.allowed : said.refused),
        },
        {
          id: 'met',
          name: said.expectations,
          width: '1fr',
          card: 'end',
          cell: (one) => (
            <b style={{ color: one.met ? token.good : token.bad }}>
              {one.met ? `✓ ${said.met}` : `✗ ${said.notMet}`}
            </b>
          ),
        },
        {
          id: 'because',
          name: said.rule,
          width: '2fr',
          quiet: true,
          cell: (one) => `${one.because}; ${said.line(one.line)}`,
        },
      ]}
    />
  )
}
