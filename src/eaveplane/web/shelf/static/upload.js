// Sends files one by one as they are, so that any size streams to disk and each tells how far it is.
import { send, tell } from "../shell/page.js";

const form = document.getElementById("upload");
const field = document.getElementById("files");
const button = form.querySelector("button");
const told = document.getElementById("upload-told");
const bar = document.getElementById("upload-progress");
let files = [];

function choose(list) {
  files = [...list];
  button.disabled = !files.length;
  const size = files.reduce((sum, file) => sum + file.size, 0) / 1e6;
  if (files.length) told.textContent = `${files.length} file${files.length === 1 ? "" : "s"}, ${size.toFixed(0)} MB`;
}

function sendOne(url, file, progress) {
  return new Promise((done, fail) => {
    const request = new XMLHttpRequest();
    request.open("POST", `${url}?name=${encodeURIComponent(file.name)}`);
    request.setRequestHeader("X-CSRFToken", document.querySelector("meta[name=csrf]").content);
    request.setRequestHeader("X-Plain", "1");
    request.upload.onprogress = (event) => progress(event.loaded);
    request.onload = () => (request.status < 300 ? done() : fail(new Error(request.responseText)));
    request.onerror = () => fail(new Error(`${file.name} could not be sent. Is the program still running?`));
    request.send(file);
  });
}

async function sendAll() {
  button.disabled = true;
  bar.hidden = false;
  const whole = files.reduce((sum, file) => sum + file.size, 0) || 1;
  const name = files[0].webkitRelativePath?.split("/")[0] || `Sent ${new Date().toLocaleDateString("en-GB", { day: "numeric", month: "long" })}`;
  const refused = [];
  try {
    const { outing } = await (await send(form.dataset.url, { method: "POST", body: new URLSearchParams({ name }) })).json();
    let before = 0;
    for (const file of files) {
      told.textContent = `Sending ${file.name}`;
      try {
        await sendOne(`${form.dataset.url}/${outing}/file`, file, (loaded) => { bar.value = (before + loaded) / whole; });
      } catch (error) {
        refused.push(error.message);
      }
      before += file.size;
    }
    if (refused.length === files.length) throw new Error(refused[0]);
    const { page } = await (await send(`${form.dataset.url}/${outing}/done`, { method: "POST" })).json();
    if (refused.length) sessionStorage.setItem("refused", refused.join(" "));
    location.assign(page);
  } catch (error) {
    tell(error.message, true);
    told.textContent = "Nothing was brought in.";
    button.disabled = false;
    bar.hidden = true;
  }
}

field.addEventListener("change", () => choose(field.files));
form.addEventListener("submit", (event) => { event.preventDefault(); if (files.length) sendAll(); });
document.addEventListener("dragover", (event) => event.preventDefault());
document.addEventListener("drop", async (event) => {
  event.preventDefault();
  const dropped = [...event.dataTransfer.files];
  // one file by itself is no scene: it may be a recipe, or hold one
  if (dropped.length === 1) {
    const body = new FormData();
    body.append("file", dropped[0]);
    const answer = await send(form.dataset.recipe, { method: "POST", body });
    if (answer.ok) { location.assign((await answer.json()).page); return; }
    if (/\.json$/i.test(dropped[0].name)) { tell(await answer.text(), true); return; }
  }
  choose(dropped);
  if (files.length) sendAll();
});
const refused = sessionStorage.getItem("refused");
if (refused) { tell(refused, true); sessionStorage.removeItem("refused"); }
