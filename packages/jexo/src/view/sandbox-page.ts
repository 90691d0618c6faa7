/**
 * Runs first in the inner frame. Browsers have no policy for calls between browsers, which reach any address: their constructors are taken away, and so are
 * frames of the page’s own text, which would bring new ones.
 */
const guard = `(() => {
  const none = (object, name) => { try { Object.defineProperty(object, name, { value: undefined, writable: false, configurable: false }); } catch {} };
  for (const name of ['RTCPeerConnection', 'webkitRTCPeerConnection', 'WebTransport']) none(window, name);
  // What makes closed trees of text, in which frames would not be seen.
  for (const [object, name] of [[Element.prototype, 'setHTMLUnsafe'], [ShadowRoot.prototype, 'setHTMLUnsafe'], [Document, 'parseHTMLUnsafe'], [Document.prototype, 'write'], [Document.prototype, 'writeln'], [Document.prototype, 'open']]) none(object, name);
  const { forEach } = Array.prototype;
  const drop = Element.prototype.remove;
  const isOwn = (frame) => frame.hasAttribute('srcdoc') || !/^https?:/i.test(frame.getAttribute('src') ?? '');
  const sweep = (root) => {
    const look = () => forEach.call(root.querySelectorAll('iframe,frame,object,embed'), (each) => isOwn(each) && drop.call(each));
    new MutationObserver(look).observe(root, { childList: true, subtree: true, attributes: true, attributeFilter: ['src', 'srcdoc'] });
  };
  sweep(document);
  const attach = Element.prototype.attachShadow;
  const attachShadow = function (init) { const root = attach.call(this, init); sweep(root); return root; };
  Object.defineProperty(Element.prototype, 'attachShadow', { value: attachShadow, writable: false, configurable: false });
})()`;

/**
 * The page of the outer frame (Extensions, "Sandboxing duties"). It has to be served from an origin that is not the host’s, and holds nothing of anybody. It
 * takes the view’s page from the host that its address names, limits itself and the inner frame to the view’s policy, shows the page in a frame without an
 * origin, and passes messages between the two. Whatever else speaks to it is not heard.
 */
export const sandboxPage = `<!doctype html>
<html>
<head>
<meta charset="utf-8">
<meta name="referrer" content="no-referrer">
<meta http-equiv="x-dns-prefetch-control" content="off">
<title>View</title>
<style>html,body,iframe{margin:0;padding:0;border:0;width:100%;height:100%;display:block;background:transparent;color-scheme:normal}body{overflow:hidden}</style>
</head>
<body>
<script>
(() => {
  const host = new URLSearchParams(location.search).get('host');
  const top = location.ancestorOrigins && location.ancestorOrigins[0];
  if (!host || parent === window || (top && top !== host) || host === location.origin) return;
  const own = 'ui/notifications/sandbox-';
  let inner;
  const guard = ${JSON.stringify(guard)};
  const policy = (csp) => {
    const meta = document.createElement('meta');
    meta.httpEquiv = 'Content-Security-Policy';
    meta.content = csp;
    return meta;
  };
  const show = ({ html, sandbox, csp, allow }) => {
    // The frame inherits what limits this page, so that nothing the view writes can loosen it.
    document.head.append(policy(csp));
    inner = document.createElement('iframe');
    inner.setAttribute('sandbox', sandbox);
    inner.setAttribute('allow', allow);
    inner.setAttribute('referrerpolicy', 'no-referrer');
    inner.title = 'View';
    inner.srcdoc = '<!doctype html>' + policy(csp).outerHTML + '<meta http-equiv="x-dns-prefetch-control" content="off"><script>' + guard + '</' + 'script>' + html.replace(/shadowrootmode/gi, 'data-shadowrootmode');
    document.body.append(inner);
  };
  addEventListener('message', ({ source, origin, data }) => {
    if (typeof data !== 'object' || data === null || data.jsonrpc !== '2.0') return;
    const isOwn = typeof data.method === 'string' && data.method.startsWith(own);
    if (source === parent && origin === host) {
      if (data.method === own + 'resource-ready' && !inner) show(data.params);
      else if (inner && !isOwn) inner.contentWindow.postMessage(data, '*');
    } else if (inner && source === inner.contentWindow && !isOwn) parent.postMessage(data, host);
  });
  parent.postMessage({ jsonrpc: '2.0', method: own + 'proxy-ready', params: {} }, host);
})();
</script>
</body>
</html>
`;
