import { useState } from 'react'
import { useTexts } from '../texts'
import { Button } from './Button'

export function CopyButton({ text, words }: { text: string; words: string }) {
  const [copied, setCopied] = useState(false)
  const said = useTexts().common
  return (
    <Button onPress={() => void navigator.clipboard.writeText(text).then(() => setCopied(true))}>
      {copied ? said.copied : words}
    </Button>
  )
}
