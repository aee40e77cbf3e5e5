import { expect, it } from "vitest";
import { wordsIn } from "./words-in.js";

const long = "k7Gf2wQpk7Gf2wQpk7Gf2wQp";

it.each<[string, string, string | undefined]>([
  [
    "a message of its own",
    '{"message":"Client is suspended","code":17}',
    'says message "Client is suspended", code 17',
  ],
  [
    "errors in a list",
    '{"errors":[{"code":"E42","detail":"not enabled"}]}',
    'says errors.0.code "E42", errors.0.detail "not enabled"',
  ],
  [
    "an error that is an object",
    '{"error":{"status":"X","nested":{"why":"late"}}}',
    'says error.status "X", error.nested.why "late"',
  ],
  ["a page", "<!doctype html><html><title> Maintenance </title>", 'is a page titled "Maintenance"'],
  ["a page without a title", "<h1>oops", "is a page"],
  ["text", "upstream timed out\n", 'says "upstream timed out"'],
  ["nothing", " \n", undefined],
  ["empty members", '{"message":"","data":null}', undefined],
  ["line breaks and escapes", '{"mess\\nage":"a\\u001b[31mb"}', 'says mess age "a [31mb"'],
  [
    "tokens",
    `{"access_token":"secret","text":"the token ${long} is over"}`,
    'says text "the token … is over"',
  ],
  ["a code of the flow", `{"code":"${long}"}`, 'says code "…"'],
  ["a secret in text", `the secret ${long} is wrong`, 'says "the secret … is wrong"'],
  [
    "long words that are none",
    '{"error":"unsupported_grant_type_for_client"}',
    'says error "unsupported_grant_type_for_client"',
  ],
])("reads %s out of a refusal", (_, text, words) => {
  expect(wordsIn({ text })).toBe(words);
});

it("reads no more of a hostile one than fits a line, in no more than a moment", () => {
  const wide = JSON.stringify(
    Object.fromEntries(Array.from({ length: 50_000 }, (_, at) => [`m${at}`, "x".repeat(500)])),
  );
  for (const text of [
    wide,
    '{"a":'.repeat(5000),
    `${'{"a":'.repeat(5000)}1${"}".repeat(5000)}`,
    "<title".repeat(50_000),
  ])
    expect(wordsIn({ text })?.length ?? 0).toBeLessThan(2500);
});
