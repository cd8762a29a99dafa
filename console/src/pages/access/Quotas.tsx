import { useMemo } from 'react'
import { Notice } from '../../components/Notice'
import { QuotaBar } from '../../components/QuotaBar'
import { Rows } from '../../components/Rows'
import { SureButton } from '../../components/SureButton'
import { useAllQuotas, useResetQuota } from '../../data/access'
import { useTexts } from '../../texts'

type Line = ReturnType<typeof useAllQuotas>[number]

/** How far each recipient is with each quota that is about them. */
export function Quotas() {
  const said = useTexts().access
  const common = useTexts().common
  const quotas = useAllQuotas()
  const reset = useResetQuota()
  const { mutate } = reset
  const columns = useMemo(
    () => [
      { id: 'who', name: said.who, width: '1.2fr' as const, cell: (line: Line) => line.who },
      { id: 'rule', name: said.rule, width: '1.6fr' as const, cell: (line: Line) => line.rule },
      { id: 'used', name: said.used, width: '3fr' as const, cell: (line: Line) => <QuotaBar quota={line} /> },
      {
        id: 'grant',
        name: said.grant,
        width: 150,
        card: 'end' as const,
        cell: (line: Line) => (
          <SureButton
            words={said.grant}
            sure={common.really}
            label={said.grantOf(line.who, line.rule)}
            onPress={() => mutate({ who: line.who, rule: line.rule })}
          />
        ),
      },
    ],
    [said, common, mutate],
  )
  return (
    <>
      {reset.error && <Notice error={reset.error} />}
      <Rows
        label={said.quotas}
        rows={quotas}
        columns={columns}
        idOf={(line) => `${line.who} ${line.rule}`}
        textOf={(line) => line.who}
        empty={said.noQuotas}
      />
    </>
  )
}
