import { parseJsonObject, type JsonObject } from "../jose/index.js";
import { isProblem, quoted } from "../problem/index.js";
import { wordsOf, type Answer } from "../trace/index.js";

/** The members of an answer, or none where it is not a JSON object: an error may come as anything. */
export function readMembers(answer: Pick<Answer, "text">, what: string): JsonObject {
  try {
    return parseJsonObject(answer.text, what);
  } catch (error) {
    if (!isProblem(error)) throw error;
    return {};
  }
}

/** An error answer in words: its status, code and description (RFC 6749 section 5.2, RFC 7591 section 3.2.2), or what else it says. */
export async function describeRefusal(
  answer: Answer,
  { error, error_description: description }: JsonObject,
): Promise<string> {
  const { status } = answer;
  const reason = [error, description].filter((part) => typeof part === "string");
  if (reason.length === 0) return `status ${status}${await wordsOf(answer)}`;
  return [`status ${status}`, ...reason.map((part) => quoted(part, 300))].join(", ");
}
