//! From text to syntax tree.
//!
//! Recursive descent. Two places need to look further than one word: `(` may open a condition
//! (when `for` follows it) or a whole event, and `or` after `while` may continue the condition or
//! the event. Both are tried in that order, and when everything fails the message is the one of
//! the attempt that got furthest.

use std::sync::Arc;

use super::lexer::{Token, tokens};
use super::tree::*;
use crate::error::{Error, ErrorKind, Place, Result, TextPlace, nearest};
use crate::quantity::{Time, Voltage};

/// Words with a meaning of their own; a line called like one is written in quotes.
pub const KEYWORDS: [&str; 18] = [
    "rises", "falls", "changes", "while", "when", "for", "then", "no", "or", "and", "not", "high", "low",
    "has", "in", "within", "after", "times",
];

/// Deepest nesting of parentheses and `not`.
const DEEPEST: usize = 64;

impl Event {
    /// Reads an expression.
    ///
    /// ```
    /// use deep_tap_core::event::Event;
    /// let event = Event::parse("ADC_SCLK rises while ADC_CS_N low and MODE == 0b1x0")?;
    /// assert_eq!(event.steps.len(), 1);
    /// let error = Event::parse("ADC_SCLK rises whil ADC_CS_N low").unwrap_err();
    /// assert_eq!(error.to_string(), "column 16: 'whil' cannot follow here");
    /// assert_eq!(error.help(), Some("did you mean 'while'?"));
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`ErrorKind::Event`], with the column and what was expected there.
    pub fn parse(text: &str) -> Result<Event> {
        Parser::new(text).whole(Parser::event)
    }
}

impl Condition {
    /// Reads a condition, as it stands after `while` or `when`.
    ///
    /// # Errors
    /// [`ErrorKind::Event`], with the column and what was expected there.
    pub fn parse(text: &str) -> Result<Condition> {
        Parser::new(text).whole(Parser::condition)
    }
}

/// Reads what stands after `has`.
pub(in crate::event) fn field_tests(text: &str) -> Result<Vec<FieldTest>> {
    Parser::new(text).whole(Parser::field_tests)
}

/// Why an attempt failed: where, what to say, how to help.
#[derive(Clone, Debug)]
struct Failure {
    span: TextSpan,
    message: String,
    help: Option<String>,
}

type Attempt<T> = Result<T, Failure>;

struct Parser<'a> {
    text: &'a str,
    tokens: Vec<(Token, TextSpan)>,
    at: usize,
    depth: usize,
    /// The failure that got furthest among abandoned attempts.
    furthest: Option<Failure>,
}

impl<'a> Parser<'a> {
    fn new(text: &'a str) -> Self {
        Parser { text, tokens: tokens(text), at: 0, depth: 0, furthest: None }
    }

    fn whole<T>(mut self, rule: impl FnOnce(&mut Self) -> Attempt<T>) -> Result<T> {
        let outcome = rule(&mut self).and_then(|tree| match self.peek() {
            Token::End => Ok(tree),
            _ => Err(self.unexpected("the end of the expression")),
        });
        outcome.map_err(|failure| {
            let failure = match self.furthest.take() {
                Some(other) if other.span.start > failure.span.start => other,
                _ => failure,
            };
            located(self.text, failure.span, failure.message, failure.help)
        })
    }

    fn peek(&self) -> &Token {
        &self.tokens[self.at].0
    }

    fn span(&self) -> TextSpan {
        self.tokens[self.at].1.clone()
    }

    fn last_end(&self) -> usize {
        self.at.checked_sub(1).map_or(0, |i| self.tokens[i].1.end)
    }

    fn advance(&mut self) -> Token {
        let token = self.tokens[self.at].0.clone();
        if self.at + 1 < self.tokens.len() {
            self.at += 1;
        }
        token
    }

    fn is_word(&self, word: &str) -> bool {
        matches!(self.peek(), Token::Word(w) if w == word)
    }

    fn take_word(&mut self, word: &str) -> bool {
        let found = self.is_word(word);
        if found {
            self.advance();
        }
        found
    }

    fn take_sign(&mut self, sign: &str) -> bool {
        let found = matches!(self.peek(), Token::Sign(s) if *s == sign);
        if found {
            self.advance();
        }
        found
    }

    fn fail<T>(&self, span: TextSpan, message: impl Into<String>, help: Option<String>) -> Attempt<T> {
        Err(Failure { span, message: message.into(), help })
    }

    fn unexpected(&self, wanted: &str) -> Failure {
        let message = match self.peek() {
            Token::End => format!("the expression ends where {wanted} should follow"),
            Token::Bad(what) => format!("{what}; {wanted} was expected"),
            _ => format!("'{}' cannot follow here", &self.text[self.span()]),
        };
        let misspelt = match self.peek() {
            // 'through' is no reserved word: it only means something after 'rises' and 'falls'.
            Token::Word(word) if !KEYWORDS.contains(&word.as_str()) => {
                nearest(word, KEYWORDS.into_iter().chain(["through", "floats", "driven", "floating"]))
            }
            _ => None,
        };
        let help = match (misspelt, self.peek()) {
            (Some(keyword), _) => Some(format!("did you mean '{keyword}'?")),
            (None, Token::End) => None,
            _ => Some(format!("expected {wanted}")),
        };
        Failure { span: self.span(), message, help }
    }

    /// Runs a rule; on failure goes back and remembers how far it came.
    fn attempt<T>(&mut self, rule: impl FnOnce(&mut Self) -> Attempt<T>) -> Option<T> {
        let (at, depth) = (self.at, self.depth);
        match rule(self) {
            Ok(tree) => Some(tree),
            Err(failure) => {
                (self.at, self.depth) = (at, depth);
                self.abandon(failure);
                None
            }
        }
    }

    fn abandon(&mut self, failure: Failure) {
        let further = self.furthest.as_ref().is_none_or(|f| failure.span.start > f.span.start);
        if further {
            self.furthest = Some(failure);
        }
    }

    fn nested<T>(&mut self, rule: impl FnOnce(&mut Self) -> Attempt<T>) -> Attempt<T> {
        if self.depth == DEEPEST {
            return self.fail(self.span(), format!("nested more than {DEEPEST} deep"), None);
        }
        self.depth += 1;
        let tree = rule(self);
        self.depth -= 1;
        tree
    }

    fn event(&mut self) -> Attempt<Event> {
        let start = self.span().start;
        let mut steps = vec![self.step(true)?];
        while self.take_word("then") {
            steps.push(self.step(false)?);
        }
        Ok(Event { steps, span: start..self.last_end() })
    }

    fn step(&mut self, first: bool) -> Attempt<Step> {
        let start = self.span().start;
        let absent = self.take_word("no");
        let mut any = vec![self.simple()?];
        while self.take_word("or") {
            any.push(self.simple()?);
        }
        let mut times = None;
        if let Token::Number(number) = self.peek().clone() {
            let span = self.span();
            self.advance();
            if !self.take_word("times") {
                return Err(self.unexpected("'times'"));
            }
            times = match number.replace('_', "").parse::<u64>() {
                Ok(count) if count > 0 => Some(count),
                _ => return self.fail(span, "a count is a whole number from 1 on", None),
            };
        }
        let limit_span = self.span();
        let limit = if self.take_word("within") {
            Some(StepLimit::Within(self.duration()?))
        } else if self.take_word("after") {
            Some(StepLimit::After(self.duration()?))
        } else {
            None
        };
        if first && limit.is_some() {
            let help = "'within' and 'after' count from the step before: write 'A then B within 5 us'";
            return self.fail(limit_span, "the first step has nothing to count from", Some(help.into()));
        }
        Ok(Step { absent, any, times, limit, span: start..self.last_end() })
    }

    fn simple(&mut self) -> Attempt<Simple> {
        let start = self.span().start;
        let kind = self.simple_kind()?;
        let guard = if self.take_word("while") { Some(self.condition()?) } else { None };
        Ok(Simple { kind, guard, span: start..self.last_end() })
    }

    fn simple_kind(&mut self) -> Attempt<SimpleKind> {
        if self.take_word("when") {
            return self.condition().map(SimpleKind::When);
        }
        // A condition followed by `for`, however it begins.
        let lasting = self.attempt(|p| {
            let start = p.span().start;
            let condition = p.condition()?;
            if p.take_word("for") {
                return Ok((condition, p.lasting()?));
            }
            match p.peek() {
                Token::End => Err(condition_alone(start..p.last_end())),
                _ => Err(p.unexpected("'for'")),
            }
        });
        if let Some((condition, lasting)) = lasting {
            return Ok(SimpleKind::Lasting(condition, lasting));
        }
        if self.take_sign("(") {
            let event = self.nested(Self::event)?;
            if !self.take_sign(")") {
                return Err(self.unexpected("')'"));
            }
            return Ok(SimpleKind::Group(Box::new(event)));
        }
        let name = self.name("the name of a line, bus or event, or 'when'")?;
        for (word, direction) in
            [("rises", Direction::Rises), ("falls", Direction::Falls), ("changes", Direction::Changes)]
        {
            if self.take_word(word) {
                if direction != Direction::Changes && self.take_word("through") {
                    return Ok(SimpleKind::Crossing(name, direction, self.voltage()?));
                }
                return Ok(SimpleKind::Edge(name, direction));
            }
        }
        for (word, driven) in [("floats", false), ("driven", true)] {
            if self.take_word(word) {
                return Ok(SimpleKind::Driven(name, driven));
            }
        }
        if self.take_word("has") {
            return Ok(SimpleKind::Frame(name, self.field_tests()?));
        }
        if ["high", "low", "floating"].iter().any(|word| self.is_word(word)) || self.comparison_follows() {
            return Err(condition_alone(name.span.start..self.span().end));
        }
        // A name alone must be a named event, and something that may follow one must follow.
        let follows = [
            "then", "or", "while", "within", "after", // continue the event
        ];
        let continues = match self.peek() {
            Token::End | Token::Number(_) => true,
            Token::Sign(sign) => *sign == ")",
            Token::Word(word) => follows.contains(&word.as_str()),
            _ => false,
        };
        if continues {
            Ok(SimpleKind::Named(name))
        } else {
            Err(self.unexpected("'rises', 'falls', 'changes', 'floats', 'driven' or 'has'"))
        }
    }

    fn field_tests(&mut self) -> Attempt<Vec<FieldTest>> {
        let mut tests = vec![self.field_test()?];
        while self.take_sign(",") {
            tests.push(self.field_test()?);
        }
        Ok(tests)
    }

    fn field_test(&mut self) -> Attempt<FieldTest> {
        let field = self.name("the name of a field")?;
        let test = if self.comparison_follows() { Some(self.test()?) } else { None };
        Ok(FieldTest { field, test })
    }

    fn comparison_follows(&self) -> bool {
        matches!(self.peek(), Token::Sign("==" | "!=" | "<" | "<=" | ">" | ">=")) || self.is_word("in")
    }

    fn test(&mut self) -> Attempt<Test> {
        if self.take_word("in") {
            let low = self.value()?;
            if !self.take_sign("..") {
                return Err(self.unexpected("'..'"));
            }
            return Ok(Test::In(low, self.value()?));
        }
        let operators = [
            ("==", Comparison::Equal),
            ("!=", Comparison::NotEqual),
            ("<", Comparison::Less),
            ("<=", Comparison::LessOrEqual),
            (">", Comparison::Greater),
            (">=", Comparison::GreaterOrEqual),
        ];
        for (sign, comparison) in operators {
            if self.take_sign(sign) {
                return Ok(Test::Compare(comparison, self.value()?));
            }
        }
        Err(self.unexpected("a comparison such as '== 0x4'"))
    }

    fn condition(&mut self) -> Attempt<Condition> {
        let mut any = vec![self.all_of()?];
        while self.is_word("or") {
            // `or` may as well join two events: then it is not ours.
            let next = self.attempt(|p| {
                p.advance();
                p.all_of()
            });
            match next {
                Some(condition) => any.push(condition),
                None => break,
            }
        }
        Ok(if any.len() == 1 { any.remove(0) } else { Condition::Or(any) })
    }

    fn all_of(&mut self) -> Attempt<Condition> {
        let mut all = vec![self.term()?];
        while self.take_word("and") {
            all.push(self.term()?);
        }
        Ok(if all.len() == 1 { all.remove(0) } else { Condition::And(all) })
    }

    fn term(&mut self) -> Attempt<Condition> {
        if self.take_word("not") {
            return self.nested(Self::term).map(|inner| Condition::Not(Box::new(inner)));
        }
        if self.take_sign("(") {
            let inner = self.nested(Self::condition)?;
            if !self.take_sign(")") {
                return Err(self.unexpected("')'"));
            }
            return Ok(inner);
        }
        let name = self.name("the name of a line or bus, 'not' or '('")?;
        if self.take_word("high") {
            return Ok(Condition::Level(name, true));
        }
        if self.take_word("low") {
            return Ok(Condition::Level(name, false));
        }
        for (word, driven) in [("driven", true), ("floating", false)] {
            if self.take_word(word) {
                return Ok(Condition::Driven(name, driven));
            }
        }
        let above = matches!(self.peek(), Token::Sign(">"));
        if above || matches!(self.peek(), Token::Sign("<")) {
            // A voltage has a unit, a value has none.
            let volts = self.attempt(|p| {
                p.advance();
                p.voltage()
            });
            if let Some(volts) = volts {
                return Ok(Condition::Voltage(name, above, volts));
            }
        }
        if self.comparison_follows() {
            return Ok(Condition::Bus(name, self.test()?));
        }
        Err(self.unexpected("'high', 'low', 'driven', 'floating' or a comparison"))
    }

    fn lasting(&mut self) -> Attempt<Lasting> {
        if self.take_sign(">") {
            return self.duration().map(Lasting::Over);
        }
        if self.take_sign("<") {
            return self.duration().map(Lasting::Under);
        }
        let start = self.span().start;
        if !matches!(self.peek(), Token::Number(_)) {
            return Err(self.unexpected("'> time', '< time' or 'time .. time'"));
        }
        let low = self.duration()?;
        if !self.take_sign("..") {
            return Err(self.unexpected("'..'"));
        }
        let high = self.duration()?;
        if low > high {
            let help = format!("write '{high} .. {low}'");
            return self.fail(start..self.last_end(), "the range is upside down", Some(help));
        }
        Ok(Lasting::Between(low, high))
    }

    /// A number and its unit, joined or apart.
    fn quantity<T: std::str::FromStr<Err = Error>>(&mut self, wanted: &str) -> Attempt<T> {
        let start = self.span().start;
        let Token::Number(_) = self.peek() else { return Err(self.unexpected(wanted)) };
        self.advance();
        if let Token::Word(unit) = self.peek()
            && !KEYWORDS.contains(&unit.as_str())
        {
            self.advance();
        }
        let span = start..self.last_end();
        self.text[span.clone()].parse().map_err(|error: Error| Failure {
            span,
            message: error.message().to_string(),
            help: error.help().map(str::to_string),
        })
    }

    fn duration(&mut self) -> Attempt<Time> {
        let start = self.span().start;
        let time: Time = self.quantity("a time such as '20 ns'")?;
        if time < Time::ZERO {
            return self.fail(start..self.last_end(), "a duration is not negative", None);
        }
        Ok(time)
    }

    fn voltage(&mut self) -> Attempt<Voltage> {
        self.quantity("a voltage such as '1.65 V'")
    }

    fn name(&mut self, wanted: &str) -> Attempt<Name> {
        let span = self.span();
        match self.peek().clone() {
            Token::Word(word) if !KEYWORDS.contains(&word.as_str()) => {
                self.advance();
                Ok(Name { text: word, span })
            }
            Token::Quoted(text) if !text.is_empty() => {
                self.advance();
                Ok(Name { text, span })
            }
            Token::Word(word) => {
                let help = format!("'{word}' is a word of the language; write \"{word}\" to mean a line");
                self.fail(span, format!("'{word}' stands where {wanted} was expected"), Some(help))
            }
            _ => Err(self.unexpected(wanted)),
        }
    }

    fn value(&mut self) -> Attempt<ValuePattern> {
        let span = self.span();
        match self.peek().clone() {
            Token::Number(number) => {
                self.advance();
                match pattern(&number.replace('_', "").to_lowercase()) {
                    Some((bits, open)) => Ok(ValuePattern { bits, open, span }),
                    None => self.fail(span, format!("'{number}' is not a value of at most 64 bits"), None),
                }
            }
            Token::Quoted(text) if text.is_ascii() && (1..=8).contains(&text.len()) => {
                self.advance();
                let bits = text.bytes().fold(0, |bits, byte| bits << 8 | u64::from(byte));
                Ok(ValuePattern { bits, open: 0, span })
            }
            Token::Quoted(_) => self.fail(span, "a text value has 1 to 8 ASCII characters", None),
            _ => Err(self.unexpected("a value such as 12, 0x2A, 0b1x0 or \"A\"")),
        }
    }
}

fn condition_alone(span: TextSpan) -> Failure {
    let help = "write 'when …' for the instant it becomes true, or '… for > 20 ns' for how long it lasts";
    Failure { span, message: "this is a condition; an event is an instant".into(), help: Some(help.into()) }
}

/// The bits given and the bits left open of a number in any base; `None` beyond 64 bits.
fn pattern(text: &str) -> Option<(u64, u64)> {
    let (digits, per_digit) = match (text.strip_prefix("0x"), text.strip_prefix("0b")) {
        (Some(digits), _) => (digits, 4),
        (_, Some(digits)) => (digits, 1),
        _ => return text.parse().ok().map(|bits| (bits, 0)),
    };
    if digits.is_empty() || digits.len() * per_digit > 64 {
        return None;
    }
    let mut bits = 0u64;
    let mut open = 0u64;
    for digit in digits.chars() {
        (bits, open) = (bits << per_digit, open << per_digit);
        match digit {
            'x' => open |= (1 << per_digit) - 1,
            _ => bits |= u64::from(digit.to_digit(1 << per_digit)?),
        }
    }
    Some((bits, open))
}

/// An error at a place in an expression.
pub(in crate::event) fn located(text: &str, span: TextSpan, message: String, help: Option<String>) -> Error {
    let place = TextPlace { name: Arc::from(""), text: Arc::from(text), span };
    let error = Error::new(ErrorKind::Event, message).at(Place::Text(place));
    match help {
        Some(help) => error.with_help(help),
        None => error,
    }
}
