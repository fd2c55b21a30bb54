// One stream of events for all tabs of a browser: the worker holds it and passes each beat on.
const ports = new Set();
let source = null;

function open() {
  source = new EventSource('/live');
  source.addEventListener('beat', (event) => ports.forEach((port) => port.postMessage(event.data)));
  source.onerror = () => ports.forEach((port) => port.postMessage(null));
}

self.onconnect = (event) => {
  const port = event.ports[0];
  ports.add(port);
  port.onmessage = (message) => {
    if (message.data === 'bye') {
      ports.delete(port);
    }
  };
  if (!source || source.readyState === EventSource.CLOSED) {
    open();
  }
};
