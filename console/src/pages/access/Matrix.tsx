// Groups × folders × actions: who may do what where, at this moment.
import { useState } from 'react'
import styled from 'styled-components'
import type { components } from '../../api/schema.gen'
import { Quiet, Row } from '../../components/Card'
import { Notice } from '../../components/Notice'
import { TextField } from '../../components/TextField'
import { ACTIONS, useMatrix, whoText } from '../../data/access'
import { useTexts } from '../../texts'
import { token } from '../../theme'

type Extent = components['schemas']['AccessCell']['extents'][string]

const Frame = styled.div`
  overflow: auto;
  border: 1px solid ${token.line};
  border-radius: ${token.radius};
  background: ${token.surface};
  table {
    border-collapse: collapse;
    font-variant-numeric: tabular-nums;
  }
  th,
  td {
    padding: 0.3rem 0.55rem;
    border-bottom: 1px solid color-mix(in srgb, ${token.line} 55%, transparent);
    text-align: center;
    white-space: nowrap;
  }
  thead th {
    color: ${token.quiet};
    font-size: ${token.type.small};
  }
  tbody th {
    position: sticky;
    left: 0;
    background: ${token.surface};
    text-align: left;
  }
  th[scope='colgroup'],
  td[data-first] {
    border-left: 1px solid ${token.line};
  }
`

const MARKS: Record<Extent, string> = { all: '●', some: '◐', none: '–' }
const COLOURS: Record<Extent, string> = { all: token.good, some: token.warn, none: token.quiet }

export function Matrix() {
  const texts = useTexts()
  const said = texts.access
  const [folder, setFolder] = useState('')
  const { data, error } = useMatrix(folder.trim())
  return (
    <>
      <Row>
        <TextField label={said.in} placeholder="charts/" value={folder} onChange={setFolder} />
      </Row>
      <Quiet>{said.matrixHint}</Quiet>
      {error && <Notice error={error} />}
      {data && (
        // A table that scrolls has to be reached by the keyboard.

        <Frame tabIndex={0} role="region" aria-label={said.matrix}>
          <table>
            <thead>
              <tr>
                <td />
                {data.folders.map((one) => (
                  <th key={one} scope="colgroup" colSpan={ACTIONS.length}>
                    {one}
                  </th>
                ))}
              </tr>
              <tr>
                <td />
                {data.folders.flatMap((one) =>
                  ACTIONS.map((action) => (
                    <th key={one + action} scope="col">
                      {texts.facts.actions[action]}
                    </th>
                  )),
                )}
              </tr>
            </thead>
            <tbody>
              {data.rows.map((row) => (
                <tr key={row.who}>
                  <th scope="row">{whoText(row.who, texts)}</th>
                  {row.cells.flatMap((cell) =>
                    ACTIONS.map((action, place) => (
                      <Cell
                        key={cell.folder + action}
                        first={place === 0}
                        extent={cell.extents[action] ?? 'none'}
                      />
                    )),
                  )}
                </tr>
              ))}
            </tbody>
          </table>
        </Frame>
      )}
    </>
  )
}

function Cell({ extent, first }: { extent: Extent; first: boolean }) {
  const said = useTexts().access
  return (
    <td {...(first && { 'data-first': true })} style={{ color: COLOURS[extent] }}>
      <span role="img" aria-label={said[extent]} title={said[extent]}>
        {MARKS[extent]}
      </span>
    </td>
  )
}
