// A rule for the linter: what people read stands with all other words, not in the script that shows it.

const READ = /^(title|placeholder|alt|aria-label|aria-description|aria-valuetext)$/;

/** Whether what stands at `node` is read by people: a child of an element, its title and label, what is said. */
function isRead(node) {
  for (let child = node, above = node.parent; above; child = above, above = above.parent) {
    switch (above.type) {
      case 'ConditionalExpression':
        if (above.test === child) return false;
        break;
      case 'LogicalExpression':
        if (above.left === child && above.operator === '&&') return false;
        break;
      case 'TemplateLiteral':
        break;
      case 'CallExpression': {
        const name = above.callee.name ?? above.callee.property?.name;
        const at = above.arguments.indexOf(child);
        if (name === 'setAttribute') return at === 1 && READ.test(above.arguments[0].value);
        return name === 'el'
          ? at >= 2
          : at >= 0 && /^(say|paper|confirm|append|replaceChildren|replaceWith)$/.test(name);
      }
      case 'Property':
        return above.value === child && READ.test(above.key.name ?? above.key.value);
      case 'AssignmentExpression':
        return above.right === child && /^(textContent|title|placeholder)$/.test(above.left.property?.name);
      default:
        return false;
    }
  }
  return false;
}

export default {
  rules: {
    'in-one-place': {
      meta: { type: 'problem', schema: [] },
      create(context) {
        const look = (node, text) => {
          if (/[a-z]{2}/.test(text) && isRead(node))
            context.report({ node, message: `“${text}” belongs into words/en/scripts.js; phrase() says it.` });
        };
        return {
          Literal: (node) => typeof node.value === 'string' && look(node, node.value),
          TemplateElement: (node) => look(node.parent, node.value.cooked),
        };
      },
    },
  },
};
