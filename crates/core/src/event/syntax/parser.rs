//! From text to syntax tree.
//!
//! Recursive descent. Two places need to look further than one word: `(` may open a condition
//! (when `for` follows it) or a whole event, and `or` after `while` may continue the condition or
//! the event. Both are tried in that order, and when everything fails the message is the one of
//! the attempt that got furthest.

use super::cursor::{Attempt, Failure, Parser};
use super::lexer::Token;
use super::tree::*;
use crate::error::Result;

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
    /// [`ErrorKind::Event`](crate::ErrorKind::Event), with the column and what was expected there.
    pub fn parse(text: &str) -> Result<Event> {
        Parser::new(text).whole(Parser::event)
    }
}

impl Condition {
    /// Reads a condition, as it stands after `while` or `when`.
    ///
    /// # Errors
    /// [`ErrorKind::Event`](crate::ErrorKind::Event), with the column and what was expected there.
    pub fn parse(text: &str) -> Result<Condition> {
        Parser::new(text).whole(Parser::condition)
    }
}

/// Reads what stands after `has`.
pub(in crate::event) fn field_tests(text: &str) -> Result<Vec<FieldTest>> {
    Parser::new(text).whole(Parser::field_tests)
}

impl Parser<'_> {
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
            return Ok(SimpleKind::Frame(name, BusUnit::Frame, self.field_tests()?));
        }
        if self.take_word("transfer") {
            return match self.take_word("has") {
                true => Ok(SimpleKind::Frame(name, BusUnit::Transfer, self.field_tests()?)),
                false => Err(self.unexpected("'has'")),
            };
        }
        if self.take_word("at") {
            return Ok(SimpleKind::Mark(name, self.name("the name of an instant, such as 'begin'")?));
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
            Err(self.unexpected("'rises', 'falls', 'changes', 'floats', 'driven', 'has' or 'at'"))
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
        if matches!(field.text.as_str(), "text" | "bytes")
            && matches!(self.peek(), Token::Quoted(_) | Token::Number(_))
        {
            let row = self.row(field.text == "text")?;
            return Ok(FieldTest { field, place: None, test: Some(Test::Row(row)) });
        }
        for (word, is_text) in [("text", true), ("bytes", false)] {
            if self.take_word(word) {
                let row = self.row(is_text)?;
                return Ok(FieldTest { field, place: None, test: Some(Test::Row(row)) });
            }
        }
        let place = if self.take_sign("[") { Some(self.place()?) } else { None };
        let test = if self.comparison_follows() { Some(self.test()?) } else { None };
        Ok(FieldTest { field, place, test })
    }

    /// What stands in `[ ]`, and its end.
    fn place(&mut self) -> Attempt<u64> {
        let span = self.span();
        let place = match self.advance() {
            Token::Number(number) => number.parse::<u64>().ok(),
            _ => None,
        };
        let Some(place) = place else {
            return self.fail(span, "a place is a whole number, counted from 0", None);
        };
        if !self.take_sign("]") {
            return Err(self.unexpected("']'"));
        }
        Ok(place)
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
}

fn condition_alone(span: TextSpan) -> Failure {
    let help = "write 'when …' for the instant it becomes true, or '… for > 20 ns' for how long it lasts";
    Failure { span, message: "this is a condition; an event is an instant".into(), help: Some(help.into()) }
}
