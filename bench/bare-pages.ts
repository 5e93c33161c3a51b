import { createServer } from 'node:http';

/** An API that answers pages of records by cursor, made as they are asked for: `/v1/tables/T/rows?cursor=N&limit=L&of=COUNT`. */
const BOATS = ['Curlew', 'Dunlin', 'Sandpiper'];
const row = (at: number): string =>
  `{"id":"s-${at}","day":${1 + (at % 300)},"departs":"06:${String(at % 60).padStart(2, '0')}","boat":"${BOATS[at % 3]}","from":"Saltmarsh","to":"Heron Island","places":${60 + (at % 60)},"guest":{"name":"Guest ${at % 977}","email":"guest${at % 977}@post.example"},"note":"Departure from the inner quay"}`;

const server = createServer((request, response) => {
  const query = new URL(request.url ?? '/', 'http://127.0.0.1').searchParams;
  const [of, limit, from] = [Number(query.get('of') ?? 1_000), Number(query.get('limit') ?? 1_000), Number(query.get('cursor') ?? 0)];
  const to = Math.min(of, from + limit);
  let rows = '';
  for (let at = from; at < to; at += 1) rows += at === from ? row(at) : `,${row(at)}`;
  const body = `{"rows":[${rows}],"total":${of},"next_cursor":${to < of ? `"${to}"` : 'null'}}`;
  response.writeHead(200, { 'content-type': 'application/json', 'content-length': Buffer.byteLength(body) }).end(body);
});
server.listen(0, '127.0.0.1', () => {
  const address = server.address();
  process.stdout.write(`${address && typeof address === 'object' ? address.port : 0}\n`);
});
