// Fails with an error that has a cause, and prints what its traceback has to say.
'use strict';
class GateStuck extends Error {
  constructor(message, options) {
    super(message, options);
    this.name = 'GateStuckError';
    this.gate = 7;
  }
}

function level(gate) {
  const levels = [3, 4];
  return levels[gate].toFixed(1);
}

class Sluice {
  open(gate) {
    try {
      return level(gate);
    } catch (e) {
      throw new GateStuck(`gate ${gate} does not answer`, { cause: e });
    }
  }
}

const run = async () => {
  await null;
  [7].forEach((gate) => new Sluice().open(gate));
};

process.on('uncaughtExceptionMonitor', (e) => {
  for (const line of e.stack.split('\n')) {
    const m = line.match(/^ {4}at (?:async )?(?:(.+) \()?(.+):(\d+):\d+\)?$/);
    if (m) console.log(['frame', m[1] || '<anonymous>', m[2], m[3]].join('\t'));
  }
  for (let c = e; c; c = c.cause) console.log(['cause', c.stack.match(/^[\w$]+/)[0], c.message].join('\t'));
});
run();
