import { createServer, type IncomingMessage, type ServerResponse } from "node:http";

/** What is done while a browser is awaited. */
export interface Awaiting<Result> {
  /** Answers a request at the address; calls `end` once what is awaited has come. What it throws ends the request alone. */
  readonly answer: (
    request: IncomingMessage,
    response: ServerResponse,
    url: URL,
    end: (result: Result) => void,
  ) => Promise<void>;
  /** Is called as soon as the address answers. */
  readonly ready: () => void;
  /** What is said where somebody gives up waiting. */
  readonly interrupted: string;
  /** What else can be done where the port is taken. */
  readonly instead?: string;
}

/**
 * Listens at a loopback address until the browser brings what is awaited (RFC 8252 section 7.3); undefined when it was ended, and the
 * exit code then says why: 1 where somebody gave up, 2 where nothing could be listened at.
 */
export function awaitBrowser<Result>(
  address: string,
  { answer, ready, interrupted, instead = "" }: Awaiting<Result>,
  say: (text: string) => void,
): Promise<Result | undefined> {
  const { hostname, port, pathname } = new URL(address);
  return new Promise((resolve) => {
    const server = createServer((request, response) => {
      const at = request.url ?? "/";
      const url = URL.canParse(at, address) ? new URL(at, address) : undefined;
      response.setHeader("content-type", "text/plain; charset=utf-8");
      response.setHeader("connection", "close");
      if (url?.pathname !== pathname) {
        response.writeHead(404).end("Nothing here.");
        return;
      }
      // Whoever goes away in the middle of it brings no answer, and ends nothing.
      answer(request, response, url, end).catch(() => response.destroy());
    });
    const interrupt = () => {
      process.exitCode = 1;
      say(interrupted);
      end(undefined);
    };
    const end = (result: Result | undefined) => {
      process.off("SIGINT", interrupt);
      server.close();
      resolve(result);
    };
    process.once("SIGINT", interrupt);
    server.once("error", (error: NodeJS.ErrnoException) => {
      const isTaken = error.code === "EADDRINUSE";
      console.error(
        isTaken
          ? `Port ${port} is in use. End the app that runs there for a moment${instead}.`
          : error.message,
      );
      process.exitCode = 2;
      end(undefined);
    });
    server.listen(Number(port) || 80, hostname.replace(/^\[|\]$/g, ""), ready);
  });
}
