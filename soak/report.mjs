import { machine, median } from "../bench/machine.mjs";

const megabyte = 2 ** 20;

/** What came of it, for docs/soak.md, and whether all is well. */
export function report(result) {
  const { counts, refreshes, tokenRequests, sessionsLeft, samples, failures } = result;
  const quarter = Math.floor(samples.length / 4);
  const heap = (from, to) => median(samples.slice(from, to).map(({ heapUsed }) => heapUsed));
  // What is loaded on first use has been loaded in the first quarter.
  const [early, late] = [heap(quarter, 2 * quarter), heap(3 * quarter)];
  const checks = [
    ["nothing failed", counts.failures === 0, `${counts.failures} failures`],
    [
      "each sign-in and each refresh is one token request, and there is no other",
      tokenRequests === counts.signIns + refreshes,
      `${counts.signIns} + ${refreshes} = ${tokenRequests}`,
    ],
    [
      "whoever signed in has signed out, and no session is left",
      counts.signIns === counts.signOuts && sessionsLeft === 0,
      `${counts.signIns} in, ${counts.signOuts} out, ${sessionsLeft} left`,
    ],
    // But for the visits that the end cut short, each renews its token once at least.
    [
      "tokens were renewed on the way",
      refreshes >= counts.signIns - result.visitors && refreshes > 0,
      `${refreshes} refreshes`,
    ],
    [
      "the heap is what it was: within a tenth and 4 MB",
      late <= early * 1.1 + 4 * megabyte,
      `${mega(early)} MB in the second quarter, ${mega(late)} MB in the last`,
    ],
  ];
  const isWell = checks.every(([, holds]) => holds);
  const [callMedian, call99, signInMedian] = ["callMedian", "call99", "signInMedian"].map((name) =>
    Math.round(median(samples.map((each) => each[name]).filter((value) => value !== undefined))),
  );
  const { processor, cores, node, measuredAt } = machine();
  const text = `# Under steady load

Written by \`npm run soak -- --minutes ${result.minutes}\`: ${result.visitors} people at a time sign in, call an API, have their
tokens renewed (each is good for ${result.accessTokenSeconds} s) and sign out, and others come. The app is a process of its own, its store
${result.store}; the providers are the practice ones. ${node}, ${cores} × ${processor}, ${measuredAt}.

![Latency and memory over time](soak.svg)

${counts.signIns} sign-ins, ${counts.calls} calls, ${refreshes} refreshes, ${counts.signOuts} sign-outs. A call takes ${callMedian} ms (median), ${call99} ms at the 99th
percentile of each moment; a sign-in, all its pages together, ${signInMedian} ms.

| What has to hold | | |
| --- | --- | --- |
${checks.map(([what, holds, figures]) => `| ${what} | ${holds ? "holds" : "**does not hold**"} | ${figures} |`).join("\n")}
${Object.entries(failures)
  .map(([message, count]) => `\n${count} × ${message}`)
  .join("")}`;
  return { text: `${text.trimEnd()}\n`, isWell };
}

function mega(bytes) {
  return (bytes / megabyte).toFixed(1);
}
