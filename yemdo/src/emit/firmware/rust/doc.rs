//! Expressions as trees of text, laid out as rustfmt lays them out.

/// Lines are no longer than this.
const WIDTH: usize = 100;
/// Maximum characters of the arguments of a call on one line.
const CALL: usize = 60;
/// So does a choice.
const CHOICE: usize = 50;
/// And a chain of methods.
const METHODS: usize = 60;

/// Text that can be broken.
#[derive(Clone, Debug)]
pub(super) enum Doc {
    Text(String),
    /// Operands with the operators between them.
    Chain(Box<Doc>, Vec<(&'static str, Doc)>),
    /// Text before the bracket, and the arguments.
    Call(String, Vec<Doc>),
    /// A method of a value.
    Method(Box<Doc>, String, Vec<Doc>),
    Paren(Box<Doc>),
    /// Something before a value: `!`, `-`.
    Before(&'static str, Box<Doc>),
    /// A suffix: ` as u8`.
    Behind(Box<Doc>, String),
    Choice(Box<Doc>, Box<Doc>, Box<Doc>),
    /// Short things in square brackets.
    List(Vec<String>),
}

impl Doc {
    /// In one line.
    pub(super) fn flat(&self) -> String {
        let list = |docs: &[Doc]| docs.iter().map(Doc::flat).collect::<Vec<_>>().join(", ");
        match self {
            Doc::Text(text) => text.clone(),
            Doc::List(items) => format!("[{}]", items.join(", ")),
            Doc::Chain(first, rest) => rest.iter().fold(first.flat(), |text, (op, doc)| format!("{text} {op} {}", doc.flat())),
            Doc::Call(head, args) => format!("{head}({})", list(args)),
            Doc::Method(of, name, args) => format!("{}.{name}({})", of.flat(), list(args)),
            Doc::Paren(inner) => format!("({})", inner.flat()),
            Doc::Before(mark, inner) => format!("{mark}{}", inner.flat()),
            Doc::Behind(inner, mark) => format!("{}{mark}", inner.flat()),
            Doc::Choice(cond, one, other) => format!("if {} {{ {} }} else {{ {} }}", cond.flat(), one.flat(), other.flat()),
        }
    }

    /// True if it may be on one line of any length.
    fn may_be_flat(&self) -> bool {
        let narrow = |args: &[Doc]| args.len() < 2 || args.iter().map(|arg| arg.flat().chars().count() + 2).sum::<usize>() <= CALL + 2;
        match self {
            Doc::Text(_) => true,
            Doc::List(items) => items.iter().map(|item| item.len() + 2).sum::<usize>() <= CALL + 2,
            Doc::Chain(first, rest) => first.may_be_flat() && rest.iter().all(|(_, doc)| doc.may_be_flat()),
            Doc::Call(_, args) => narrow(args) && args.iter().all(Doc::may_be_flat),
            Doc::Method(of, _, args) => {
                let chained = matches!(**of, Doc::Method(..) | Doc::Call(..));
                narrow(args)
                    && of.may_be_flat()
                    && args.iter().all(Doc::may_be_flat)
                    && (!chained || self.flat().chars().count() <= METHODS)
            }
            Doc::Paren(inner) | Doc::Before(_, inner) | Doc::Behind(inner, _) => inner.may_be_flat(),
            Doc::Choice(..) => self.flat().chars().count() <= CHOICE,
        }
    }

    /// Layout from a column, with the indentation of later lines, and the number of characters after it.
    pub(super) fn lay(&self, indent: usize, column: usize, behind: usize) -> String {
        let flat = self.flat();
        if self.may_be_flat() && column + flat.chars().count() + behind <= WIDTH {
            return flat;
        }
        let pad = " ".repeat(indent);
        let inner = " ".repeat(indent + 4);
        match self {
            Doc::Text(_) => flat,
            Doc::List(items) => {
                let mut lines = vec![inner.clone()];
                for item in items {
                    if lines.last().is_some_and(|line| line.len() + item.len() + 2 > WIDTH) {
                        lines.push(inner.clone());
                    }
                    let Some(line) = lines.last_mut() else { continue };
                    let space = if line.trim().is_empty() { "" } else { " " };
                    line.push_str(&format!("{space}{item},"));
                }
                format!("[\n{}\n{pad}]", lines.join("\n"))
            }
            Doc::Chain(first, rest) => {
                let mut text = first.lay(indent, column, 1);
                for (index, (op, doc)) in rest.iter().enumerate() {
                    let behind = if index + 1 == rest.len() { behind } else { 0 };
                    text.push_str(&format!("\n{inner}{op} {}", doc.lay(indent + 4, indent + 5 + op.len(), behind)));
                }
                text
            }
            Doc::Call(head, args) => format!("{head}(\n{}{pad})", vertical(args, indent)),
            Doc::Method(of, ..) if matches!(**of, Doc::Method(..)) => {
                // Every method of a chain has a line of its own.
                let mut links: Vec<Doc> = Vec::new();
                let mut base = self;
                while let Doc::Method(of, name, args) = base {
                    links.push(Doc::Call(format!(".{name}"), args.clone()));
                    base = of;
                }
                let mut text = base.lay(indent, column, 0);
                for (index, link) in links.iter().rev().enumerate() {
                    let behind = if index + 1 == links.len() { behind } else { 0 };
                    text.push_str(&format!("\n{inner}{}", link.lay(indent + 4, indent + 4, behind)));
                }
                text
            }
            Doc::Method(of, name, args) => {
                let head = format!("{}.{name}", of.flat());
                let short = of.flat().chars().count() <= 4 || !matches!(**of, Doc::Method(..) | Doc::Call(..));
                if short {
                    return format!("{head}(\n{}{pad})", vertical(args, indent));
                }
                let last = Doc::Call(format!(".{name}"), args.clone());
                format!("{}\n{inner}{}", of.lay(indent, column, 0), last.lay(indent + 4, indent + 4, behind))
            }
            Doc::Paren(doc) => format!("({})", doc.lay(indent, column + 1, behind + 1)),
            Doc::Before(mark, doc) => format!("{mark}{}", doc.lay(indent, column + mark.len(), behind)),
            Doc::Behind(doc, mark) => format!("{}{mark}", doc.lay(indent, column, behind + mark.len())),
            Doc::Choice(cond, one, other) => {
                let one = one.lay(indent + 4, indent + 4, 0);
                let cond = cond.lay(indent, column + 3, 2);
                let chained = if let Doc::Choice(..) = **other {
                    other.lay(indent, indent + 7, behind)
                } else {
                    format!("{{\n{inner}{}\n{pad}}}", other.lay(indent + 4, indent + 4, 0))
                };
                format!("if {cond} {{\n{inner}{one}\n{pad}}} else {chained}")
            }
        }
    }
}

/// Arguments, each in a line of its own.
fn vertical(args: &[Doc], indent: usize) -> String {
    let pad = " ".repeat(indent + 4);
    args.iter().map(|arg| format!("{pad}{},\n", arg.lay(indent + 4, indent + 4, 1))).collect()
}
