//! Tokens to syntax tree: a Pratt parser for expressions, plain descent for statements.

use super::ast::{Body, Expr, ExprKind, Stmt, UnaryOp};
use super::lex::{Token, lex};
use super::slips;
use crate::formula::MAX_DEPTH;
use crate::formula::operators::{Arith, BinaryOp};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::number::Ty;
use crate::ground::text::{Span, Text};

type Parsed<T> = Result<T, Diagnostic>;

/// Parses a formula.
pub(crate) fn parse(text: &Text) -> Parsed<Body> {
    let mut parser = Parser { tokens: lex(text)?, at: 0, depth: 0 };
    if parser.starts_statement() {
        let mut statements = Vec::new();
        while parser.peek() != &Token::End {
            parser.statement(&mut statements)?;
        }
        return Ok(Body::Statements(statements));
    }
    if parser.peek() == &Token::End {
        return Err(Diagnostic::error("empty-formula", text.span, "a formula needs an expression").label("nothing here"));
    }
    let value = parser.expression(0)?;
    match parser.peek() {
        Token::End => Ok(Body::Value(value)),
        Token::Mark(";") => Err(parser.unexpected("the end of the formula").help("to give this value, write `return` before it")),
        _ => Err(parser.unexpected("an operator or the end of the formula")),
    }
}

struct Parser {
    tokens: Vec<(Token, Span)>,
    at: usize,
    depth: usize,
}

impl Parser {
    fn peek(&self) -> &Token {
        self.ahead(0)
    }

    fn ahead(&self, by: usize) -> &Token {
        self.tokens.get(self.at + by).map_or(&Token::End, |(token, _)| token)
    }

    fn span(&self) -> Span {
        self.tokens.get(self.at).or(self.tokens.last()).map_or(Span::default(), |(_, span)| *span)
    }

    fn next(&mut self) -> (Token, Span) {
        let token = (self.peek().clone(), self.span());
        self.at += 1;
        token
    }

    fn takes(&mut self, mark: &str) -> bool {
        let found = matches!(self.peek(), Token::Mark(m) if *m == mark);
        if found {
            self.at += 1;
        }
        found
    }

    fn is_name(&self, by: usize, name: &str) -> bool {
        matches!(self.ahead(by), Token::Name(n) if n == name)
    }

    fn unexpected(&self, expected: &str) -> Diagnostic {
        let found = self.peek().describe();
        Diagnostic::error("syntax", self.span(), format!("expected {expected}, found {found}")).label(format!("expected {expected}"))
    }

    fn expect(&mut self, mark: &'static str) -> Parsed<Span> {
        let span = self.span();
        if self.takes(mark) { Ok(span) } else { Err(self.unexpected(&format!("`{mark}`"))) }
    }

    /// Guards recursion: counts a level, and refuses one too many.
    fn nested<T>(&mut self, inner: impl FnOnce(&mut Self) -> Parsed<T>) -> Parsed<T> {
        if self.depth >= MAX_DEPTH {
            return Err(too_deep(self.span()));
        }
        self.depth += 1;
        let result = inner(self);
        self.depth -= 1;
        result
    }

    fn starts_statement(&self) -> bool {
        match self.peek() {
            Token::Mark("{") => true,
            Token::Name(name) => {
                is_type_word(name)
                    || matches!(name.as_str(), "if" | "return" | "for" | "while" | "do" | "switch" | "goto")
                    || assignment(self.ahead(1)).is_some()
                    || matches!(self.ahead(1), Token::Mark("++" | "--"))
                    || (slips::meant_type(name).is_some() && matches!(self.ahead(1), Token::Name(_)))
            }
            _ => false,
        }
    }

    fn statement(&mut self, out: &mut Vec<Stmt>) -> Parsed<()> {
        self.nested(|parser| parser.statement_inner(out))
    }

    fn statement_inner(&mut self, out: &mut Vec<Stmt>) -> Parsed<()> {
        if self.takes(";") {
            return Ok(());
        }
        if matches!(self.peek(), Token::Mark("{")) {
            out.push(Stmt::Block(self.block()?));
            return Ok(());
        }
        let Token::Name(name) = self.peek().clone() else {
            return Err(self.unexpected("a statement: a declaration, an assignment, `if` or `return`"));
        };
        match name.as_str() {
            "if" => {
                self.at += 1;
                self.expect("(").map_err(|problem| problem.help("a condition stands in parentheses: if (x == 0)"))?;
                let cond = self.expression(0)?;
                self.expect(")")?;
                let mut then = Vec::new();
                self.statement(&mut then)?;
                let mut otherwise = Vec::new();
                if self.is_name(0, "else") {
                    self.at += 1;
                    self.statement(&mut otherwise)?;
                }
                out.push(Stmt::If { cond, then, otherwise });
            }
            "return" => {
                self.at += 1;
                let value = self.expression(0)?;
                self.expect(";")?;
                out.push(Stmt::Return(value));
            }
            "for" | "while" | "do" | "switch" | "goto" => {
                return Err(Diagnostic::error("not-in-formulas", self.span(), format!("`{name}` is left out of formulas"))
                    .label("no loops and jumps here")
                    .help("write the steps out, or choose with `if`, `?:` or a table"));
            }
            _ if is_type_word(&name) => self.declaration(out)?,
            _ => {
                if let Some(meant) = slips::meant_type(&name).filter(|_| matches!(self.ahead(1), Token::Name(_))) {
                    return Err(slips::not_a_type(&name, meant, self.span()));
                }
                self.assignment(name, out)?;
            }
        }
        Ok(())
    }

    fn block(&mut self) -> Parsed<Vec<Stmt>> {
        self.expect("{")?;
        let mut inside = Vec::new();
        while !self.takes("}") {
            if self.peek() == &Token::End {
                return Err(self.unexpected("`}`"));
            }
            self.statement(&mut inside)?;
        }
        Ok(inside)
    }

    fn declaration(&mut self, out: &mut Vec<Stmt>) -> Parsed<()> {
        let ty = self.type_name()?;
        loop {
            if matches!(self.peek(), Token::Mark("*")) {
                return Err(no_pointers(self.span()));
            }
            let (Token::Name(name), span) = self.next() else {
                self.at -= 1;
                return Err(self.unexpected("the name of the variable"));
            };
            if matches!(self.peek(), Token::Mark("[")) {
                return Err(Diagnostic::error("not-in-formulas", self.span(), "arrays are left out of formulas")
                    .label("no arrays here")
                    .help("give each value a name of its own"));
            }
            let value = if self.takes("=") { Some(self.expression(0)?) } else { None };
            out.push(Stmt::Declare { ty, name, span, value });
            if !self.takes(",") {
                break;
            }
        }
        self.expect(";")?;
        Ok(())
    }

    fn assignment(&mut self, name: String, out: &mut Vec<Stmt>) -> Parsed<()> {
        let (_, span) = self.next();
        if let Token::Mark(mark @ ("++" | "--")) = *self.peek() {
            let (_, at) = self.next();
            self.expect(";")?;
            let one = Expr { kind: ExprKind::Int(1, Ty::I32), span: at, depth: 1 };
            let op = BinaryOp::Arith(if mark == "++" { Arith::Add } else { Arith::Sub });
            out.push(Stmt::Assign { name, span, op: Some((op, at)), value: one });
            return Ok(());
        }
        let Some(op) = assignment(self.peek()) else {
            let problem = self.unexpected("`=` or another assignment");
            return Err(match self.peek() {
                Token::Name(_) => problem.help(format!("if `{name}` is meant as a type: types are int, uint16_t, float and their kin")),
                _ => problem.help("a value that is not used is refused; to give it as the result, write `return`"),
            });
        };
        let (_, op_span) = self.next();
        let value = self.expression(0)?;
        self.expect(";")?;
        out.push(Stmt::Assign { name, span, op: op.map(|op| (op, op_span)), value });
        Ok(())
    }

    /// A type name of one or several words.
    fn type_name(&mut self) -> Parsed<Ty> {
        let start = self.span();
        let mut words = Vec::new();
        let mut span = start;
        while let Token::Name(word) = self.peek() {
            if !is_type_word(word) {
                break;
            }
            words.push(word.clone());
            span = start.to(self.span());
            self.at += 1;
        }
        type_of(&words).map_err(|help| {
            Diagnostic::error("unknown-type", span, format!("`{}` is not a type of the formula language", words.join(" ")))
                .label("not a type here")
                .help(help)
        })
    }

    fn expression(&mut self, power: u8) -> Parsed<Expr> {
        self.nested(|parser| parser.expression_inner(power))
    }

    fn expression_inner(&mut self, power: u8) -> Parsed<Expr> {
        let mut left = self.operand()?;
        while let Token::Mark(mark) = *self.peek() {
            if mark == "^"
                && let Some((before, behind)) = self.tokens.split_at_checked(self.at)
                && let Some(problem) = slips::power(before, behind.get(1..).unwrap_or(&[]))
            {
                return Err(problem);
            }
            if mark == "?" && power == 0 {
                self.at += 1;
                let then = self.expression(0)?;
                self.expect(":")?;
                let otherwise = self.expression(0)?;
                let span = left.span.to(otherwise.span);
                let depth = 1 + left.depth.max(then.depth).max(otherwise.depth);
                left = Expr { kind: ExprKind::Cond(Box::new(left), Box::new(then), Box::new(otherwise)), span, depth };
            } else if let Some((op, binds)) = BinaryOp::of_mark(mark).filter(|(_, binds)| *binds > power) {
                let (_, op_span) = self.next();
                let right = self.expression(binds)?;
                let span = left.span.to(right.span);
                let depth = 1 + left.depth.max(right.depth);
                left = Expr { kind: ExprKind::Binary(op, op_span, Box::new(left), Box::new(right)), span, depth };
            } else if mark == "**" {
                return Err(Diagnostic::error("not-in-formulas", self.span(), "`**` is not part of C")
                    .label("no operator in C")
                    .help("for a power, write pow(x, y); for a square, x * x"));
            } else if mark == "=" || (assignment(self.peek()).is_some()) || matches!(mark, "++" | "--") {
                return Err(Diagnostic::error("not-in-formulas", self.span(), "assignment inside an expression is left out of formulas")
                    .label("no assignment here")
                    .help("for a comparison, write ==; else give the assignment a statement of its own"));
            } else {
                break;
            }
            if left.depth > MAX_DEPTH {
                return Err(too_deep(left.span));
            }
        }
        Ok(left)
    }

    fn operand(&mut self) -> Parsed<Expr> {
        let (token, span) = self.next();
        let leaf = |kind| Expr { kind, span, depth: 1 };
        match token {
            Token::Int { value, ty, .. } => Ok(leaf(ExprKind::Int(value, ty))),
            Token::Real(value, ty) => Ok(leaf(ExprKind::Real(value, ty))),
            Token::Name(name) if name == "sizeof" => {
                Err(Diagnostic::error("not-in-formulas", span, format!("`{name}` is left out of formulas")).label("not here"))
            }
            Token::Name(name) => self.after_name(name, span),
            Token::Mark("(") => self.parenthesised(span),
            Token::Mark(mark @ ("-" | "+" | "~" | "!")) => {
                let op = match mark {
                    "-" => UnaryOp::Minus,
                    "+" => UnaryOp::Plus,
                    "~" => UnaryOp::BitNot,
                    _ => UnaryOp::Not,
                };
                let inner = self.nested(Self::operand)?;
                let (span, depth) = (span.to(inner.span), inner.depth + 1);
                Ok(Expr { kind: ExprKind::Unary(op, Box::new(inner)), span, depth })
            }
            Token::Mark("*" | "&") => Err(no_pointers(span)),
            Token::Mark("++" | "--") => Err(Diagnostic::error("not-in-formulas", span, "++ and -- stand only as statements of their own")
                .label("not inside an expression")),
            _ => {
                self.at -= 1;
                Err(self.unexpected("a value"))
            }
        }
    }

    fn after_name(&mut self, name: String, span: Span) -> Parsed<Expr> {
        if is_type_word(&name) {
            self.at -= 1;
            return Err(self.unexpected("a value").help(format!("a cast is written ({name})x, with parentheses around the type")));
        }
        if self.takes("(") {
            let mut args: Vec<Expr> = Vec::new();
            if !self.takes(")") {
                loop {
                    args.push(self.expression(0)?);
                    if !self.takes(",") {
                        break;
                    }
                }
                self.expect(")")?;
            }
            let end = self.tokens.get(self.at - 1).map_or(span, |(_, span)| *span);
            let depth = 1 + args.iter().map(|arg| arg.depth).max().unwrap_or(0);
            return Ok(Expr { kind: ExprKind::Call(name, span, args), span: span.to(end), depth });
        }
        if self.takes(".") {
            let (mut member, mut member_span) = self.member()?;
            // REGISTER.FIELD.column, if several registers have a field of that name.
            if self.takes(".") {
                let (column, column_span) = self.member()?;
                member = format!("{member}.{column}");
                member_span = member_span.to(column_span);
            }
            let whole = span.to(member_span);
            return Ok(Expr { kind: ExprKind::Name(name, Some((member, member_span))), span: whole, depth: 1 });
        }
        if matches!(self.peek(), Token::Mark("[" | "->")) {
            return Err(no_pointers(self.span()));
        }
        Ok(Expr { kind: ExprKind::Name(name, None), span, depth: 1 })
    }

    /// The name after a dot.
    fn member(&mut self) -> Parsed<(String, Span)> {
        let (Token::Name(member), span) = self.next() else {
            self.at -= 1;
            return Err(self.unexpected("a name behind the dot"));
        };
        Ok((member, span))
    }

    /// Behind an opening parenthesis: a cast or an expression.
    fn parenthesised(&mut self, open: Span) -> Parsed<Expr> {
        // `((int32_t))x` is not C, but `(int32_t)((x))` and `((int32_t)x)` are.
        if matches!(self.peek(), Token::Name(name) if is_type_word(name)) {
            let ty = self.type_name()?;
            if matches!(self.peek(), Token::Mark("*")) {
                return Err(no_pointers(self.span()));
            }
            self.expect(")")?;
            let inner = self.nested(Self::operand)?;
            let (span, depth) = (open.to(inner.span), inner.depth + 1);
            return Ok(Expr { kind: ExprKind::Cast(ty, Box::new(inner)), span, depth });
        }
        let place = self.span();
        let inner = self.expression(0)?;
        let close = self.expect(")")?;
        // `(s32)x` is two values one behind the other, unless the first is meant as a type.
        if let ExprKind::Name(name, None) = &inner.kind
            && let Some(meant) = slips::meant_type(name)
            && matches!(self.peek(), Token::Name(_) | Token::Int { .. } | Token::Real(..) | Token::Mark("("))
        {
            return Err(slips::not_a_type(name, meant, place));
        }
        Ok(Expr { span: open.to(close), ..inner })
    }
}

fn too_deep(span: Span) -> Diagnostic {
    Diagnostic::error("formula-too-deep", span, format!("a formula nests at most {MAX_DEPTH} levels"))
        .label("nested too deeply")
        .help("give parts of it names of their own")
}

fn no_pointers(span: Span) -> Diagnostic {
    Diagnostic::error("not-in-formulas", span, "pointers and arrays are left out of formulas")
        .label("not here")
        .help("use the names of codes and variables directly")
}

/// The assignment a token makes: `None` if it is none, `Some(None)` for a plain `=`.
fn assignment(token: &Token) -> Option<Option<BinaryOp>> {
    let Token::Mark(mark) = token else { return None };
    if *mark == "=" {
        return Some(None);
    }
    let op = mark.strip_suffix('=')?;
    let (op, _) = BinaryOp::of_mark(op)?;
    // `<=`, `>=`, `==` and `!=` end in `=` too; those compare.
    op.assigns().then_some(Some(op))
}

const FIXED_WIDTH: &[(&str, Ty)] = &[
    ("int8_t", Ty::I8),
    ("uint8_t", Ty::U8),
    ("int16_t", Ty::I16),
    ("uint16_t", Ty::U16),
    ("int32_t", Ty::I32),
    ("uint32_t", Ty::U32),
    ("int64_t", Ty::I64),
    ("uint64_t", Ty::U64),
    ("bool", Ty::Bool),
    ("_Bool", Ty::Bool),
    ("float", Ty::F32),
    ("double", Ty::F64),
];

fn is_type_word(word: &str) -> bool {
    FIXED_WIDTH.iter().any(|(name, _)| *name == word)
        || matches!(word, "const" | "volatile" | "static" | "unsigned" | "signed" | "char" | "short" | "int" | "long" | "void")
}

/// The type of a list of type words, in any order as C allows.
fn type_of(words: &[String]) -> Result<Ty, &'static str> {
    let words: Vec<&str> = words.iter().map(String::as_str).filter(|word| !matches!(*word, "const" | "volatile")).collect();
    if let [word] = words.as_slice()
        && let Some((_, ty)) = FIXED_WIDTH.iter().find(|(name, _)| name == word)
    {
        return Ok(*ty);
    }
    let count = |word: &str| words.iter().filter(|w| **w == word).count();
    let (unsigned, signed) = (count("unsigned") > 0, count("signed") > 0);
    let known = words.iter().all(|word| matches!(*word, "unsigned" | "signed" | "char" | "short" | "int" | "long"));
    if !known || (unsigned && signed) || count("unsigned") + count("signed") > 1 {
        return Err(if count("double") == 1 && count("long") == 1 {
            "`double` is the widest real"
        } else {
            "types are bool, int, short, long, long long, their unsigned forms, int8_t to uint64_t, float and double"
        });
    }
    let pick = |signed_ty, unsigned_ty| if unsigned { unsigned_ty } else { signed_ty };
    match (count("char"), count("short"), count("int"), count("long")) {
        (1, 0, 0, 0) if unsigned || signed => Ok(pick(Ty::I8, Ty::U8)),
        (1, 0, 0, 0) => Err("whether plain `char` has a sign depends on the compiler; write int8_t or uint8_t"),
        (0, 1, 0 | 1, 0) => Ok(pick(Ty::I16, Ty::U16)),
        (0, 0, 0 | 1, 0 | 1) => Ok(pick(Ty::I32, Ty::U32)),
        (0, 0, 0 | 1, 2) => Ok(pick(Ty::I64, Ty::U64)),
        _ => Err("this combination of words names no type in C"),
    }
}
