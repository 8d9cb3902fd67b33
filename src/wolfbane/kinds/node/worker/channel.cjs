// The worker's end of the channel: JSON Lines over a socket.
'use strict';

const net = require('node:net');

const PROTOCOL = 1;

class Channel {
  /** Connect, say hello, and hand each request to `hear`; `closed` is called at the end. */
  constructor(hear, closed) {
    const [host, port] = process.env.WOLFBANE_CHANNEL.split(':');
    const token = process.env.WOLFBANE_TOKEN;
    delete process.env.WOLFBANE_CHANNEL;
    delete process.env.WOLFBANE_TOKEN;
    let buffer = '';
    this.socket = net.connect(Number(port), host);
    this.socket.setNoDelay(true).setEncoding('utf8');
    this.socket.on('data', (chunk) => {
      const lines = (buffer + chunk).split('\n');
      buffer = lines.pop();
      for (const line of lines) hear(JSON.parse(line));
    });
    this.socket.on('error', closed);
    this.socket.on('close', closed);
    const runtime = `Node.js ${process.versions.node}`;
    this.send({ type: 'hello', protocol: PROTOCOL, token, runtime });
  }

  /** Send one message; a connected socket takes it before this returns. */
  send(message) {
    this.socket.write(`${JSON.stringify(message)}\n`);
  }

  /** Keep the process alive for requests, or let it end when the tests have nothing to do. */
  hold(alive) {
    if (alive) this.socket.ref();
    else this.socket.unref();
  }
}

module.exports = { Channel };
