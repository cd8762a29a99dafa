import { useState } from 'react'
import { Button } from './Button'

interface Given {
  words: string
  sure: string // what it says once it was pressed
  label?: string
  sureLabel?: string
  isDisabled?: boolean
  onPress: () => void
}

/** A button for what cannot be undone: it is to be pressed twice. */
export function SureButton({ words, sure, label, sureLabel, isDisabled = false, onPress }: Given) {
  const [asked, setAsked] = useState(false)
  const called = asked ? (sureLabel ?? label) : label
  return (
    <Button
      {...(called && { 'aria-label': called })}
      isDisabled={isDisabled}
      onPress={() => {
        if (asked) onPress()
        setAsked(!asked)
      }}
      onBlur={() => setAsked(false)}
    >
      {asked ? sure : words}
    </Button>
  )
}
