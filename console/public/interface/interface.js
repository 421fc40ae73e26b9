// Draws the interface's description from its OpenAPI document. A file of its own: no page runs scripts in it.
const place = document.getElementById("interface");

const element = (name, text, ...children) => {
  const made = document.createElement(name);
  if (text) made.textContent = text;
  made.append(...children);
  return made;
};

/** A schema with its references followed a few steps, as an example reads. */
function shape(schema, all, depth = 0) {
  if (!schema || depth > 5) return "…";
  if (schema.$ref) return shape(all[schema.$ref.split("/").pop()], all, depth + 1);
  if (schema.enum) return schema.enum.join(" | ");
  const some = schema.anyOf ?? schema.oneOf;
  if (some) return shape(some.find((one) => one.type !== "null") ?? some[0], all, depth);
  if (schema.type === "array") return [shape(schema.items, all, depth + 1)];
  if (schema.properties)
    return Object.fromEntries(
      Object.entries(schema.properties).map(([name, one]) => [name, shape(one, all, depth + 1)]),
    );
  return schema.type ?? "any";
}

function operation(method, path, found, all) {
  const made = element(
    "details",
    "",
    element(
      "summary",
      "",
      element("b", method.toUpperCase()),
      element("code", path),
      element("span", found.summary),
    ),
  );
  if (found.description) made.append(element("p", found.description));
  const rows = (found.parameters ?? []).map((one) =>
    element(
      "tr",
      "",
      element("td", "", element("code", one.name)),
      element("td", one.in),
      element("td", one.description ?? ""),
    ),
  );
  if (rows.length) made.append(element("table", "", ...rows));
  const show = (title, content) => {
    const schema = content?.["application/json"]?.schema;
    if (schema) made.append(element("p", title), element("pre", JSON.stringify(shape(schema, all), null, 2)));
  };
  show("Body", found.requestBody?.content);
  for (const [status, answer] of Object.entries(found.responses))
    if (status < "300") show(`Answer ${status}`, answer.content);
  return made;
}

const described = await (await fetch(place.dataset.document)).json();
const sections = new Map();
for (const [path, operations] of Object.entries(described.paths))
  for (const [method, found] of Object.entries(operations)) {
    const tag = found.tags?.[0] ?? "other";
    sections.set(tag, [
      ...(sections.get(tag) ?? []),
      operation(method, path, found, described.components.schemas),
    ]);
  }
place.append(
  element("h1", `${described.info.title} ${described.info.version}: interface`),
  element(
    "p",
    "Sign in at the console, or send a key: Authorization: Bearer KEY. Errors are problem details (RFC 9457).",
  ),
  element("p", "", Object.assign(element("a", "The OpenAPI document"), { href: place.dataset.document })),
);
for (const [tag, made] of sections) place.append(element("h2", tag), ...made);
