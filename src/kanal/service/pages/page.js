// Keeps what is shown as it is now: when the service says that something has changed, the page is asked for again.
(() => {
  "use strict";
  if (!window.EventSource) return;
  let asked = false, again = false;
  const refresh = async () => {
    if (asked) { again = true; return; }
    if (document.activeElement && document.activeElement.closest("main form")) { setTimeout(refresh, 3000); return; }
    asked = true;
    try {
      const answer = await fetch(location.href, { headers: { Accept: "text/html" } });
      if (answer.ok) {
        const fresh = new DOMParser().parseFromString(await answer.text(), "text/html");
        document.querySelector("main").replaceChildren(...fresh.querySelector("main").childNodes);
        document.querySelector("footer").replaceChildren(...fresh.querySelector("footer").childNodes);
        document.title = fresh.title;
        show();
      }
    } catch { /* the service may be starting anew; the stream tells when it is back */ }
    asked = false;
    if (again) { again = false; setTimeout(refresh, 500); }
  };
  const show = () => { document.getElementById("live").hidden = stream.readyState !== EventSource.OPEN; };
  const stream = new EventSource("/changes");
  stream.addEventListener("change", refresh);
  stream.addEventListener("open", show);
  stream.addEventListener("error", show);
  setInterval(() => { if (!document.hidden && document.querySelector(".running, .state.starting, .state.stopping")) refresh(); }, 2000);
})();
