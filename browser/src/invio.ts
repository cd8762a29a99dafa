// Downloads with their progress, on anybody's page: the element <invio-download> and the function `download`.
import { define } from './element'

export { Download, download, type Options } from './download'
export { figures, InvioDownload } from './element'
export { Refused } from './links'
export type { Progress, State } from './progress'
export { durationText, leftText, sizeText } from './words'

define()
