// Quotas in words.
import { useQuery } from '@tanstack/react-query'
import { answered, http, type Quota } from '../api/client'
import { durationText, sizeText, soonText } from '../components/format'
import type { Texts } from '../texts/en'

export function useOwnQuotas() {
  return useQuery({ queryKey: ['own-quotas'], queryFn: () => answered(http.GET('/api/quotas')) })
}

/** As in "2 of 10 files used, each 1 d; the next is free on Tuesday". */
export function quotaText(quota: Quota, texts: Texts['account'], now: Date): string {
  const period = durationText(quota.seconds)
  const parts = []
  if (quota.files !== null) parts.push(texts.quotaFiles(quota.used_files, quota.files, period))
  if (quota.bytes !== null)
    parts.push(texts.quotaBytes(sizeText(quota.used_bytes), sizeText(quota.bytes), period))
  if (quota.frees !== null) parts.push(texts.nextFree(soonText(quota.frees, now)))
  return parts.join('; ')
}

/** How much of a quota is used, from 0 to 1: of files or of bytes, whichever is nearer to its end. */
export function usedShare(quota: Quota): number {
  const files = quota.files ? quota.used_files / quota.files : 0
  const bytes = quota.bytes ? quota.used_bytes / quota.bytes : 0
  return Math.min(1, Math.max(0, files, bytes))
}
