import express, { type Request, type Response, Router } from 'express';
import { escapeHtml } from '../../core/html.ts';
import { page } from '../pages.ts';
import type { ServerParts } from '../server-parts.ts';
import type { RegisteredClient } from '../state.ts';
import { ACCOUNTS } from '../world.ts';
import { type Fields, one, PARTS, type PartContext, type Pressed } from './parts.ts';
import { hasPart, newClient, partsOf } from './record.ts';

/**
 * The developer console of a simulated provider, at its registration page: one engine, whose parts and words the definition names. Who
 * opens it is signed in already, as the first of the made-up accounts.
 */
const form = express.urlencoded({ extended: false, limit: '64kb' });
const esc = escapeHtml;

export function developerConsole(parts: ServerParts): Router {
  const { definition, store } = parts;
  const router = Router();
  const base = new URL(definition.registration.page ?? 'http://localhost/clients').pathname.replace(/\/$/, '');
  const word = definition.words.client ?? 'Client';
  const inProjects = hasPart(definition, 'project');
  const projectWord = partsOf(definition).find((one) => one.part === 'project')?.title ?? 'Project';
  const projects = () => Object.values(store.state.projects).filter((project) => project.realm === parts.realm);
  const clients = (project?: string) =>
    Object.values(store.state.clients).filter((client) => client.realm === parts.realm && (project === undefined || client.project === project));
  const send = (response: Response, title: string, body: string, status = 200) =>
    void response
      .status(status)
      .type('html')
      .send(page(title, definition, `<p class="small">Signed in as ${esc(ACCOUNTS[0]?.email ?? '')}</p>${body}`));
  const note = (pressed: Pressed): string =>
    `${pressed.problem ? `<p class="bad" role="alert">${esc(pressed.problem)}</p>` : ''}${pressed.says ? `<p class="good" role="status">${esc(pressed.says)}</p>` : ''}${pressed.shows ?? ''}`;
  const listed = (items: { name: string; href: string; says: string }[]) =>
    items.length === 0
      ? '<p>None yet.</p>'
      : `<ul>${items.map((item) => `<li><a href="${esc(item.href)}">${esc(item.name)}</a> <span class="small">${esc(item.says)}</span></li>`).join('')}</ul>`;
  const newForm = (what: string, action: string, label: string) =>
    `<h2>New ${esc(what.toLowerCase())}</h2><form method="post" action="${action}"><label>${esc(label)} <input type="text" name="name" maxlength="80"></label><button>Create</button></form>`;

  const home = (response: Response, pressed: Pressed = {}, status = 200) => {
    const body = inProjects
      ? `${listed(projects().map((project) => ({ name: project.name, href: `${base}/in/${project.id}`, says: '' })))}${newForm(projectWord, base, 'Name')}`
      : `${clientList()}${newForm(word, base, `Name of the ${word.toLowerCase()}`)}`;
    send(response, inProjects ? `Your ${projectWord.toLowerCase()}s` : `Your ${word.toLowerCase()}s`, `${note(pressed)}${body}`, status);
  };
  const clientList = (project?: string): string =>
    listed(clients(project).map((client) => ({ name: client.name, href: `${base}/${client.id}`, says: client.id })));
  const create = (name: string, project: string): RegisteredClient => {
    const client = { ...newClient(definition, parts.realm, name, parts.now()), project };
    store.state.clients[client.id] = client;
    store.touch();
    return client;
  };

  router.get(base, (_request, response) => home(response));
  router.post(base, form, (request, response) => {
    const name = one((request.body as Fields).name);
    if (!name) return home(response, { problem: 'A name is needed.' }, 400);
    if (!inProjects) return response.redirect(303, `${base}/${create(name, '').id}`);
    const id = String(projects().length + 1);
    store.state.projects[`${parts.realm}/${id}`] = { id, name, realm: parts.realm };
    store.touch();
    return response.redirect(303, `${base}/in/${id}`);
  });
  const inProject = (request: Request, response: Response, pressed: Pressed = {}, status = 200) => {
    const project = store.state.projects[`${parts.realm}/${request.params.project}`];
    if (!project) return send(response, 'Not found', '<p>There is no such page.</p>', 404);
    return send(
      response,
      project.name,
      `${note(pressed)}${clientList(project.name)}${newForm(word, `${base}/in/${project.id}`, `Name of the ${word.toLowerCase()}`)}`,
      status,
    );
  };
  router.get(`${base}/in/:project`, (request, response) => inProject(request, response));
  router.post(`${base}/in/:project`, form, (request, response) => {
    const project = store.state.projects[`${parts.realm}/${request.params.project}`];
    const name = one((request.body as Fields).name);
    if (!project || !name) return inProject(request, response, { problem: 'A name is needed.' }, 400);
    return response.redirect(303, `${base}/${create(name, project.name).id}`);
  });

  const contextOf = (request: Request): PartContext | null => {
    const client = store.state.clients[String(request.params.client)];
    return client?.realm === parts.realm ? { definition, client, store, now: parts.now() } : null;
  };
  const gone = (response: Response) => send(response, 'Not found', `<p>There is no such page. <a href="${base}">Back</a></p>`, 404);
  const menu = (context: PartContext): string =>
    `<nav aria-label="Parts"><ol>${partsOf(definition)
      .filter(({ part }) => part !== 'project')
      .map(
        ({ part, title }) =>
          `<li><a href="${base}/${context.client.id}/${part}">${esc(title)}</a> <span class="small">${esc(PARTS[part].sums(context))}</span></li>`,
      )
      .join('')}</ol></nav>`;

  router.get(`${base}/:client`, (request, response) => {
    const context = contextOf(request);
    if (!context) return gone(response);
    const about = definition.placeholders
      .filter((placeholder) => placeholder.choices.length === 0 && placeholder.example)
      .map((placeholder) => `<p>${esc(placeholder.title)}<br><code>${esc(placeholder.example ?? '')}</code></p>`);
    return send(
      response,
      context.client.name,
      `<p>${esc(definition.words.client_id ?? 'Client id')}<br><code id="client-id">${esc(context.client.id)}</code></p>${about.length > 0 ? `<h2>About this ${esc(definition.title)}</h2>${about.join('')}` : ''}<h2>Parts</h2>${menu(context)}<p><a href="${base}">All</a></p>`,
    );
  });
  const partPage = (context: PartContext, name: string, response: Response, pressed: Pressed = {}) => {
    const found = partsOf(definition).find(({ part }) => part === name && part !== 'project');
    if (!found) return gone(response);
    return send(
      response,
      found.title,
      `<p><a href="${base}/${context.client.id}">${esc(context.client.name)}</a></p>${note(pressed)}<form method="post" action="${base}/${context.client.id}/${found.part}">${PARTS[found.part].form(context)}</form><h2>Parts</h2>${menu(context)}`,
      pressed.problem ? 400 : 200,
    );
  };
  router.get(`${base}/:client/:part`, (request, response) => {
    const context = contextOf(request);
    return context ? partPage(context, String(request.params.part), response) : gone(response);
  });
  router.post(`${base}/:client/:part`, form, (request, response) => {
    const context = contextOf(request);
    const found = partsOf(definition).find(({ part }) => part === request.params.part);
    if (!context || !found) return gone(response);
    const pressed = PARTS[found.part].press(context, (request.body ?? {}) as Fields);
    store.touch();
    return partPage(context, found.part, response, pressed);
  });
  return router;
}
