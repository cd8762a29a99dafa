// Texts that strangers wrote, shown to people: none of them reads as another, or looks like one that it is not.

// Controls, the soft hyphen, what hides or turns the line round (Unicode TR 36 §2.6), and the byte order mark. Kept are
// line ends, and marks that languages and signs that are put together need.
// eslint-disable-next-line no-control-regex
const ODD = /[\u0000-\u0009\u000b-\u001f\u007f-\u009f\u00ad\u200b\u2028-\u202e\u2060-\u206f\ufeff]/g

/** A text with what is odd in it written as an escape, as in \u202e. */
export const shown = (text: string) =>
  text.replace(ODD, (sign) => `\\u${sign.charCodeAt(0).toString(16).padStart(4, '0')}`)
