//! Nouns straight from the cells of a row: no map in between, and text is copied once.

use serde::de::value::BorrowedStrDeserializer;
use serde::de::{DeserializeSeed, Deserializer, Error as _, MapAccess, Visitor};
use serde::{Deserialize, forward_to_deserialize_any};
use yestrel_core::Problem;

use crate::rows::{Cell, View};

/// What a row says, or why it cannot be read so.
#[derive(Debug)]
pub(crate) enum Unreadable {
    Shape(String),
    Database(Problem),
}

impl std::fmt::Display for Unreadable {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Shape(words) => f.write_str(words),
            Self::Database(problem) => f.write_str(&problem.line()),
        }
    }
}

impl std::error::Error for Unreadable {}

impl serde::de::Error for Unreadable {
    fn custom<T: std::fmt::Display>(words: T) -> Self {
        Self::Shape(words.to_string())
    }
}

/// Reads a structure of which each field is the column of its name. Columns named in `structured` hold JSON text where they begin so, those
/// in `flags` 0 or 1.
pub(crate) fn read<'a, T: Deserialize<'a>>(
    view: &'a dyn View,
    structured: &'a [&'a str],
    flags: &'a [&'a str],
) -> Result<T, Unreadable> {
    T::deserialize(Reader { view, structured, flags, at: 0 })
}

struct Reader<'a> {
    view: &'a dyn View,
    structured: &'a [&'a str],
    flags: &'a [&'a str],
    at: usize,
}

impl<'de> Deserializer<'de> for Reader<'de> {
    type Error = Unreadable;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Unreadable> {
        visitor.visit_map(self)
    }

    forward_to_deserialize_any! {
        bool i8 i16 i32 i64 u8 u16 u32 u64 f32 f64 char str string bytes byte_buf option unit unit_struct newtype_struct
        seq tuple tuple_struct map struct enum identifier ignored_any
    }
}

impl<'de> MapAccess<'de> for Reader<'de> {
    type Error = Unreadable;

    fn next_key_seed<K: DeserializeSeed<'de>>(&mut self, seed: K) -> Result<Option<K::Value>, Unreadable> {
        match self.view.column(self.at) {
            None => Ok(None),
            Some(column) => seed.deserialize(BorrowedStrDeserializer::new(column)).map(Some),
        }
    }

    fn next_value_seed<V: DeserializeSeed<'de>>(&mut self, seed: V) -> Result<V::Value, Unreadable> {
        let column = self.view.column(self.at).unwrap_or_default();
        let cell = self.view.cell(self.at).map_err(Unreadable::Database)?;
        self.at += 1;
        let field = match cell {
            Cell::Null | Cell::Integer(_) if self.flags.contains(&column) => Field::Flag(cell == Cell::Integer(1)),
            Cell::Text(text) if text.starts_with(['{', '[']) && self.structured.contains(&column) => Field::Json(text),
            other => Field::Plain(other),
        };
        seed.deserialize(field).map_err(|error| Unreadable::Shape(format!("{column}: {error}")))
    }
}

/// What a cell holds, by what its column is for.
enum Field<'a> {
    Plain(Cell<'a>),
    Flag(bool),
    Json(&'a str),
}

impl<'de> Deserializer<'de> for Field<'de> {
    type Error = Unreadable;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Unreadable> {
        match self {
            Self::Flag(flag) => visitor.visit_bool(flag),
            Self::Plain(Cell::Null) => visitor.visit_unit(),
            Self::Plain(Cell::Integer(number)) => visitor.visit_i64(number),
            Self::Plain(Cell::Text(text)) => visitor.visit_borrowed_str(text),
            Self::Json(text) => {
                let mut reader = serde_json::Deserializer::from_str(text);
                reader.deserialize_any(visitor).map_err(Unreadable::custom)
            }
        }
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Unreadable> {
        match self {
            Self::Plain(Cell::Null) => visitor.visit_none(),
            some => visitor.visit_some(some),
        }
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(self, _: &'static str, visitor: V) -> Result<V::Value, Unreadable> {
        visitor.visit_newtype_struct(self)
    }

    fn deserialize_enum<V: Visitor<'de>>(
        self,
        name: &'static str,
        variants: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Unreadable> {
        match self {
            Self::Plain(Cell::Text(text)) => visitor.visit_enum(BorrowedStrDeserializer::new(text)),
            Self::Json(text) => {
                let mut reader = serde_json::Deserializer::from_str(text);
                reader.deserialize_enum(name, variants, visitor).map_err(Unreadable::custom)
            }
            other => other.deserialize_any(visitor),
        }
    }

    forward_to_deserialize_any! {
        bool i8 i16 i32 i64 u8 u16 u32 u64 f32 f64 char str string bytes byte_buf unit unit_struct seq tuple tuple_struct
        map struct identifier ignored_any
    }
}
