// Puts the reader's own system first. Without this, the page reads from top to bottom as it is.
(async () => {
  const agent = navigator.userAgentData;
  const text = ((agent && agent.platform) || navigator.platform || "") + " " + navigator.userAgent;
  const os = /android|iphone|ipad/i.test(text) ? "" : /win/i.test(text) && !/darwin/i.test(text) ? "windows"
    : /mac/i.test(text) ? "darwin" : /freebsd/i.test(text) ? "freebsd" : /openbsd/i.test(text) ? "openbsd"
    : /linux|x11/i.test(text) ? "linux" : "";
  const group = os && document.querySelector(`.group[data-os="${os}"]`);
  if (!group) return;
  group.classList.add("own");
  group.querySelector(".yours").hidden = false;
  document.getElementById("groups").prepend(group);
  let arch = /aarch64|arm64/i.test(text) ? "arm64" : /x86_64|x64|amd64|wow64|intel mac/i.test(text) ? "amd64" : "";
  if (agent && agent.getHighEntropyValues) {
    const more = await agent.getHighEntropyValues(["architecture", "bitness"]);
    arch = more.architecture === "arm" ? (more.bitness === "64" ? "arm64" : "arm") : more.bitness === "64" ? "amd64" : "386";
  } else if (os === "darwin") {
    arch = ""; // browsers there say Intel on every Mac
  }
  for (const list of group.querySelectorAll("ul")) {
    const own = [...list.children].filter((item) => item.dataset.arch === arch);
    own.forEach((item) => item.classList.add("own"));
    list.prepend(...own);
  }
})();
