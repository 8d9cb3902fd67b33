// A browser through W3C WebDriver, with nothing but what Node has.

const ELEMENT = 'element-6066-11e4-a52e-4f735466cecf';

export class Browser {
  static async open() {
    const browser = new Browser();
    const { sessionId } = await browser.send('POST', '/session', { capabilities: {} });
    browser.session = `/session/${sessionId}`;
    return browser;
  }

  async send(method, path, body = {}) {
    const answer = await fetch(process.env.HARBOUR_DRIVER + path, {
      method, body: method === 'POST' ? JSON.stringify(body) : undefined,
    });
    const { value } = await answer.json();
    if (!answer.ok) throw new Error(`${value.error}: ${value.message}`);
    return value;
  }

  call(method, path, body) { return this.send(method, this.session + path, body); }

  visit(page) { return this.call('POST', '/url', { url: `${process.env.HARBOUR_URL}/pages/${page}` }); }

  async find(css, wait = 5000) {
    const end = Date.now() + wait;
    for (;;) {
      try {
        return (await this.call('POST', '/element', { using: 'css selector', value: css }))[ELEMENT];
      } catch (error) {
        if (Date.now() > end) throw error;
        await new Promise((done) => { setTimeout(done, 50); });
      }
    }
  }

  async text(css) { return this.call('GET', `/element/${await this.find(css)}/text`); }

  async click(css) { return this.call('POST', `/element/${await this.find(css)}/click`); }

  quit() { return this.call('DELETE', ''); }
}
