import { requestClientToken, type Grant } from "../grant/index.js";
import { fail } from "../problem/index.js";
import type { Provider } from "../provider/index.js";
import type { Tools } from "../trace/index.js";
import { boundsOf, resolveApiUrl, type Api } from "./api-address.js";
import { callWith, reportAnswer } from "./authorised-fetch.js";
import { isStale } from "./tokens.js";
import { createStubborn } from "./stubborn.js";
import type { Leases } from "./leases.js";

/** Calls APIs as the app itself, without a person. */
export interface MachineFetch {
  /**
   * Calls a declared API with an access token of the app's own, kept until shortly before it expires. A token that is
   * refused is asked for once more.
   *
   * @throws connection.no-client-scope, connection.other-origin, grant.*, platform.*
   */
  fetch(api: Api, path: string, init?: RequestInit): Promise<Response>;
}

/** The app's own tokens, in this process's memory: they are cheap to ask for again (RFC 6749 section 4.4.3). */
export function createMachineFetch(
  tools: Tools,
  leases: Leases,
  openProvider: (name: string) => Promise<Provider>,
): MachineFetch {
  const kept = new Map<string, Grant>();
  const stubborn = createStubborn(tools.platform);

  const grantFor = (
    { name, provider, clientScope, resource, audience }: Api,
    refused?: Grant,
  ): Promise<Grant> => {
    const found = kept.get(name);
    if (found && found !== refused && !isStale(found, tools.platform.now())) return Promise.resolve(found);
    return leases.share(`machine/${name}`, async () => {
      if (clientScope === undefined)
        fail("connection.no-client-scope", { received: `the API ${name} without one` });
      const grant = await requestClientToken(
        await openProvider(provider),
        clientScope,
        resource === undefined && audience === undefined ? undefined : { resource, audience },
      );
      kept.set(name, grant);
      return grant;
    });
  };

  return {
    async fetch(api, path, init = {}) {
      const response = await fetchAsApp(api, path, init);
      reportAnswer(tools, api, init, response);
      return response;
    },
  };

  async function fetchAsApp(api: Api, path: string, init: RequestInit): Promise<Response> {
    const url = resolveApiUrl(api, path);
    const grant = await grantFor(api);
    const call = (bearing: Grant) => callWith(tools, bearing, url, init, boundsOf(api));
    const response = await call(grant);
    const canRepeat = !(init.body instanceof ReadableStream) && !stubborn.refuses(api.name);
    if (response.status !== 401 || !canRepeat) return response;
    const renewed = await grantFor(api, grant);
    await response.body?.cancel();
    const again = await call(renewed);
    stubborn.note(api.name, again.status === 401);
    return again;
  }
}
