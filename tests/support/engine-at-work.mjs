// Does everything that the cryptography does, often, while memory is collected all the time.
import { setFlagsFromString } from "node:v8";
import { createPlatform } from "../../packages/tenonsaw/dist/platform/index.js";
import { newKeyPair } from "../../scripts/key-pair.mjs";

const { crypto } = createPlatform();
const rsa = newKeyPair("rsa", { modulusLength: 2048 }).privateKey.export({ format: "jwk" });
const [data, key, iv] = [32, 32, 12].map((length) => new Uint8Array(length).fill(7));
const other = await crypto.generateKey("P-256");
setFlagsFromString("--gc-interval=7");
for (let round = 0; round < 20_000; round += 1) await crypto.generateKey("P-256");
for (let round = 0; round < 1000; round += 1) {
  const own = await crypto.generateKey("P-256");
  const signing = await crypto.importKey(own, "ES256", "sign");
  const { d, ...shown } = own;
  const signature = await crypto.sign(signing, data);
  const verifying = await crypto.importKey(shown, "ES256", "verify");
  if (!(await crypto.verify(verifying, signature, data))) throw new Error(`a signature by ${d}`);
  await crypto.agree(own, other);
  await crypto.digestText("SHA-256", "tides");
  await crypto.mac("SHA-256", key, data);
  await crypto.decryptGcm(key, iv, await crypto.encryptGcm(key, iv, data, data), data);
  await crypto.unwrapKey(key, await crypto.wrapKey(key, data));
  if (round % 50 === 0)
    await crypto.decryptOaep(rsa, "SHA-256", await crypto.encryptOaep(rsa, "SHA-256", data));
}
console.log("done");
