//! From text to syntax tree: what was written, before names mean anything.

mod cursor;
mod lexer;
mod parser;
mod tree;

pub use cursor::KEYWORDS;
pub(in crate::event) use cursor::{characters, located};
pub(in crate::event) use parser::field_tests;
pub use tree::{
    BusUnit, Comparison, Condition, Direction, Event, FieldTest, Lasting, Name, Simple, SimpleKind, Step,
    StepLimit, Test, TextSpan, ValuePattern,
};

/// Whether an expression uses a name, as a word of its own.
pub(crate) fn mentions(text: &str, name: &str) -> bool {
    lexer::tokens(text).iter().any(|(token, _)| match token {
        lexer::Token::Word(word) | lexer::Token::Quoted(word) => word == name,
        _ => false,
    })
}
