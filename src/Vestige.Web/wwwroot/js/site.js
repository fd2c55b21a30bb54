// Live updates, the clock and the keyboard. Pages read and forms submit without any of this.
(() => {
  'use strict';

  const beat = (data) => {
    document.body.classList.toggle('cut-off', data === null);
    if (data !== null && !document.hidden) {
      document.body.dispatchEvent(new CustomEvent('live'));
    }
  };

  const listen = () => {
    if (window.SharedWorker) {
      const worker = new SharedWorker('/js/live-worker.js');
      worker.port.onmessage = (message) => beat(message.data);
      worker.port.start();
      window.addEventListener('pagehide', () => worker.port.postMessage('bye'));
    } else {
      new EventSource('/live').addEventListener('beat', (event) => beat(event.data));
    }
  };

  // A part that cannot be drawn anew says so where it stands; what it showed before is of what was chosen before.
  const failed = (event) => {
    const part = event.detail.target;
    if (part && part.id && !document.getElementById(`${part.id}-failed`)) {
      const note = document.createElement('p');
      note.id = `${part.id}-failed`;
      note.className = 'banner fault';
      note.setAttribute('role', 'alert');
      const status = event.detail.xhr ? event.detail.xhr.status : 0;
      note.textContent = `This part could not be updated${status ? ` (status ${status})` : ': Vestige did not answer'}. It still shows the choices made before.`;
      part.before(note);
    }
  };

  const drawn = (event) => {
    const part = event.detail.target;
    const note = part && part.id ? document.getElementById(`${part.id}-failed`) : null;
    if (note) {
      note.remove();
    }
  };

  document.addEventListener('htmx:responseError', failed);
  document.addEventListener('htmx:sendError', failed);
  document.addEventListener('htmx:afterRequest', (event) => {
    if (event.detail.successful) {
      drawn(event);
    }
  });

  const clock = () => {
    const face = document.getElementById('clock');
    if (face) {
      face.textContent = `${new Date().toISOString().slice(11, 19)} UTC`;
    }
  };

  const places = { f: '/', c: '/crossings', o: '/connections', e: '/events', a: '/alerts', t: '/trace', r: '/reconcile', b: '/bench', n: '/crossings/new', h: '/guide' };
  let waitsForPlace = false;

  const typing = (target) => target.closest('input, textarea, select, [contenteditable]') !== null;

  const rows = () => [...document.querySelectorAll('a.row')];

  const move = (by) => {
    const all = rows();
    if (all.length > 0) {
      const at = all.indexOf(document.activeElement);
      all[Math.max(0, Math.min(all.length - 1, at < 0 ? 0 : at + by))].focus();
    }
  };

  const keys = (open) => {
    const sheet = document.getElementById('keys');
    if (sheet.hidden === open) {
      sheet.hidden = !open;
      (open ? sheet.querySelector('button') : document.body).focus();
    }
  };

  document.addEventListener('keydown', (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey) {
      return;
    }
    if (event.key === 'Escape') {
      keys(false);
      if (event.target.id === 'find') {
        event.target.value = '';
        document.getElementById('found').replaceChildren();
        event.target.blur();
      }
      return;
    }
    if (event.target.id === 'find' && (event.key === 'ArrowDown' || event.key === 'Enter')) {
      const first = document.querySelector('#found a');
      if (first) {
        event.preventDefault();
        if (event.key === 'Enter') {
          first.click();
        } else {
          first.focus();
        }
      }
      return;
    }
    if (event.target.closest('#found') && (event.key === 'ArrowDown' || event.key === 'ArrowUp')) {
      const all = [...document.querySelectorAll('#found a')];
      const next = all.indexOf(event.target) + (event.key === 'ArrowDown' ? 1 : -1);
      event.preventDefault();
      (all[next] ?? document.getElementById('find')).focus();
      return;
    }
    if (typing(event.target)) {
      return;
    }
    if (waitsForPlace) {
      waitsForPlace = false;
      if (places[event.key]) {
        window.location.assign(places[event.key]);
      }
      return;
    }
    const does = {
      '/': () => document.getElementById('find').focus(),
      '?': () => keys(true),
      g: () => { waitsForPlace = true; setTimeout(() => { waitsForPlace = false; }, 1200); },
      j: () => move(1),
      k: () => move(-1),
    }[event.key];
    if (does) {
      event.preventDefault();
      does();
    }
  });

  // A statement of the plan becomes one of one's own: put behind those that are there, for its table, and shown.
  const editStatement = (button) => {
    const text = document.getElementById('structure');
    const table = button.dataset.editStatement;
    text.closest('details').open = true;
    if (!text.value.includes(`- table: ${table}\n`)) {
      const statement = button.parentElement.querySelector('pre').textContent.trimEnd().replace(/;$/, '');
      const before = text.value.trim() === '' ? '' : `${text.value.trimEnd()}\n`;
      text.value = `${before}- table: ${table}\n  run: |-\n${statement.split('\n').map((line) => `    ${line}`).join('\n')}\n`;
      text.dispatchEvent(new Event('change', { bubbles: true }));
    }
    text.focus();
    const at = text.value.indexOf(`- table: ${table}\n`);
    text.setSelectionRange(at, at);
  };

  document.addEventListener('click', (event) => {
    if (event.target.closest('[data-copy]')) {
      copy(event.target.closest('[data-copy]'));
    }
    if (event.target.closest('[data-edit-statement]')) {
      editStatement(event.target.closest('[data-edit-statement]'));
    }
    if (event.target.closest('[data-keys]')) {
      keys(event.target.closest('[data-keys]').dataset.keys === 'open');
    }
  });

  // A choice among a few is taken at once; its button is for those without scripts and for the text beside it.
  document.addEventListener('change', (event) => {
    if (event.target.matches('select, input[type="checkbox"]')) {
      event.target.closest('form[data-submits]')?.requestSubmit();
    }
  });

  // Where the browser has no clipboard for this address, the text is selected to be copied by hand.
  async function copy(button) {
    const text = document.getElementById(button.dataset.copy);
    try {
      await navigator.clipboard.writeText(text.textContent);
      button.textContent = 'Copied';
    } catch {
      getSelection().selectAllChildren(text);
      button.textContent = 'Selected';
    }
  }
  document.addEventListener('alpine:init', () => {
    window.Alpine.data('rate', () => ({
      value: 0,
      init() { this.value = this.$refs.range.value; },
      take() { this.value = this.$refs.range.value; },
      send() { this.$refs.form.requestSubmit(); },
    }));
    window.Alpine.data('pick', () => ({
      all() { this.set(true); },
      none() { this.set(false); },
      set(on) {
        this.$root.querySelectorAll('label[data-name]:not([hidden]) input').forEach((box) => { box.checked = on && !box.disabled; });
        this.$root.querySelector('label[data-name] input')?.dispatchEvent(new Event('change', { bubbles: true }));
      },
    }));
    // The steps of a treatment are edited as text: one is added behind the last, or moved past its neighbour.
    window.Alpine.data('steps', () => ({
      add(event) {
        const body = {
          keep: "  keep: branch_id = 7 AND status <> 'closed'\n",
          leaveOut: '  leaveOut: [note]\n',
          rename: '  rename:\n  - column: old_name\n    to: new_name\n',
          convert: '  convert:\n  - column: amount\n    to: numeric\n',
          compute: "  compute:\n  - column: full_name\n    as: given_name || ' ' || family_name\n",
          mask: '  mask:\n  - column: email\n    by: hash\n',
          children: '  children:\n  - from: column\n    into: schema.elements\n    columns:\n    - column: name\n      field: name\n',
          key: '  key: [branch_id]\n',
          combine: '  combine:\n    into: schema.all_of_them\n    origin: origin\n    by: schema\n',
          split: "  split:\n  - into: schema.first\n    when: kind = 'first'\n  - into: schema.others\n",
          marks: '  marks:\n    operation: changed_by\n    committedAt: changed_at\n',
        }[event.target.dataset.step];
        const text = this.$refs.text;
        const before = text.value.trim() === '' ? '' : `${text.value.trimEnd()}\n`;
        const table = event.target.dataset.table ?? document.getElementById('sampled')?.value ?? 'schema.table';
        this.write(`${before}- tables: ${table}\n${body}`, before.length + '- tables: '.length, table.length);
      },
      key(event) {
        if (event.altKey && (event.key === 'ArrowUp' || event.key === 'ArrowDown')) {
          event.preventDefault();
          this.move(event.key === 'ArrowUp' ? -1 : 1);
        }
      },
      move(by) {
        const text = this.$refs.text;
        const steps = `${text.value.trimEnd()}\n`.split(/^(?=- )/m);
        let at = 0;
        let start = 0;
        while (at < steps.length - 1 && start + steps[at].length <= text.selectionStart) {
          start += steps[at].length;
          at += 1;
        }
        const to = at + by;
        if (to < 0 || to >= steps.length) {
          return;
        }
        [steps[at], steps[to]] = [steps[to], steps[at]];
        this.write(steps.join(''), steps.slice(0, to).join('').length + (text.selectionStart - start), 0);
      },
      write(value, place, length) {
        const text = this.$refs.text;
        text.value = value;
        text.focus();
        text.setSelectionRange(place, place + length);
        text.dispatchEvent(new Event('change', { bubbles: true }));
      },
    }));
    window.Alpine.data('bench', () => ({
      run(event) {
        if (event.key === 'Enter' && event.ctrlKey) {
          this.$root.requestSubmit();
        }
      },
    }));
  });

  // What a person opened stays open when a part is drawn anew.
  const keepOpened = () => {
    // An answer that comes while one types does not take away what was typed.
    window.Idiomorph.defaults.ignoreActiveValue = true;
    window.Idiomorph.defaults.callbacks.beforeAttributeUpdated = (name, element) => !(name === 'open' && element.tagName === 'DETAILS');
  };

  document.addEventListener('DOMContentLoaded', () => {
    keepOpened();
    clock();
    setInterval(clock, 1000);
    listen();
  });
})();
