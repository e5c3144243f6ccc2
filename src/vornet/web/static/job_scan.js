// A label's code read off a picture: by the browser where it can, else by the decoder that ships with Vornet.
"use strict";

globalThis.JobScan = (() => {
const LONGEST = 1400; // more points do not make a label plainer, only slower

async function drawn(file) {
  const picture = await createImageBitmap(file), scale = Math.min(1, LONGEST / Math.max(picture.width, picture.height));
  const canvas = document.createElement("canvas");
  canvas.width = Math.round(picture.width * scale);
  canvas.height = Math.round(picture.height * scale);
  const pen = canvas.getContext("2d", { willReadFrequently: true });
  pen.drawImage(picture, 0, 0, canvas.width, canvas.height);
  return pen.getImageData(0, 0, canvas.width, canvas.height);
}

// the text of the code in a picture, null when there is none to be read
async function read(file) {
  if ("BarcodeDetector" in globalThis) {
    const detector = new BarcodeDetector({ formats: ["qr_code", "code_128", "code_39", "ean_13"] });
    const [code] = await detector.detect(await createImageBitmap(file)).catch(() => []);
    if (code) return code.rawValue.trim();
  }
  const points = await drawn(file).catch(() => null);
  return points ? globalThis.jsQR?.(points.data, points.width, points.height)?.data.trim() || null : null;
}
return { read };
})();
