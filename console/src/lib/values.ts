/** How the value of an entry is shown: as JSON, text, an image or bytes, a part at a time. */

/** How many bytes are shown first, and with each request for more. */
export const PART = 16 << 10;

/** Larger images are shown as bytes. */
const LARGEST_IMAGE = 4 << 20;

export type Form = 'JSON' | 'text' | 'image' | 'bytes';

/** The forms that a value can be shown in, the most readable first. */
export function formsOf(value: Uint8Array, mediaType: string): Form[] {
  const others = formsOfText(value, mediaType);
  const isImage = /^image\/(png|jpeg|gif|webp|avif|svg\+xml)\b/.test(mediaType);
  return isImage && value.length <= LARGEST_IMAGE ? ['image', ...others] : others;
}

/** An image as an address. The browser runs nothing that it finds in an image. */
export function imageAddress(value: Uint8Array, mediaType: string): string {
  let binary = '';
  for (let at = 0; at < value.length; at += PART) {
    binary += String.fromCharCode(...value.subarray(at, at + PART));
  }
  return `data:${mediaType.split(';')[0]};base64,${btoa(binary)}`;
}

function formsOfText(value: Uint8Array, mediaType: string): Form[] {
  let text: string;
  try {
    text = new TextDecoder('utf-8', { fatal: true }).decode(value);
  } catch {
    return ['bytes'];
  }
  const isJson = /^application\/(.*\+)?json\b/.test(mediaType) || /^\s*[[{]/.test(text);
  try {
    if (isJson) {
      JSON.parse(text);
      return ['JSON', 'text', 'bytes'];
    }
  } catch {
    // Damaged JSON is shown as the text it is.
  }
  return ['text', 'bytes'];
}

/** The reason why a value that is declared as JSON is none. */
export function damageOf(value: Uint8Array, mediaType: string): string {
  if (!/^application\/(.*\+)?json\b/.test(mediaType)) return '';
  try {
    JSON.parse(new TextDecoder('utf-8', { fatal: true }).decode(value));
    return '';
  } catch (error) {
    return (error as Error).message;
  }
}

/** Bytes as hexadecimal numbers and characters, sixteen to a line. */
export function hexLines(value: Uint8Array): string {
  const lines: string[] = [];
  for (let at = 0; at < value.length; at += 16) {
    const row = [...value.subarray(at, at + 16)];
    const hex = row.map((byte) => byte.toString(16).padStart(2, '0')).join(' ');
    const characters = row.map((byte) => (byte >= 32 && byte < 127 ? String.fromCharCode(byte) : '·')).join('');
    lines.push(`${at.toString(16).padStart(6, '0')}  ${hex.padEnd(47)}  ${characters}`);
  }
  return lines.join('\n');
}

/** The first `bytes` of a value in a form, and whether there is more. */
export function shownValue(value: Uint8Array, form: Form, bytes: number): { text: string; isWhole: boolean } {
  if (form === 'bytes') {
    return { text: hexLines(value.subarray(0, bytes)), isWhole: value.length <= bytes };
  }
  let text = new TextDecoder().decode(value);
  if (form === 'JSON') text = JSON.stringify(JSON.parse(text), null, 2);
  return { text: text.slice(0, bytes), isWhole: text.length <= bytes };
}

/** Tags as the `Cache-Groups` field has them (RFC 9875). */
export function groupsField(tags: string[]): string {
  return tags.map((tag) => `"${tag.replaceAll('\\', '\\\\').replaceAll('"', '\\"')}"`).join(', ');
}
