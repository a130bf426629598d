// What comes with a picture.

/** An answer's head and its picture: four bytes of length, so much JSON, and the rest. */
export async function apart(answer) {
  const bytes = await answer.arrayBuffer();
  const length = new DataView(bytes).getUint32(0, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(bytes, 4, length)));
  return { head, blob: new Blob([new Uint8Array(bytes, 4 + length)], { type: 'image/jpeg' }) };
}
