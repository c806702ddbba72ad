//! Facts in a column, in the form that serde gives them: what is decided on is a value, never a sentence.

use katabatic_core::Stamp;
use rusqlite::types::{FromSql, FromSqlError, FromSqlResult, ToSql, ToSqlOutput, ValueRef};
use serde::Serialize;
use serde::de::DeserializeOwned;

/// A fact on its way to a column, or out of it.
#[derive(Clone, Debug)]
pub(super) struct Fact<T>(pub(super) T);

impl<T: Serialize> ToSql for Fact<T> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        serde_json::to_string(&self.0)
            .map(ToSqlOutput::from)
            .map_err(|why| rusqlite::Error::ToSqlConversionFailure(Box::new(why)))
    }
}

impl<T: DeserializeOwned> FromSql for Fact<T> {
    fn column_result(value: ValueRef<'_>) -> FromSqlResult<Fact<T>> {
        serde_json::from_str(value.as_str()?)
            .map(Fact)
            .map_err(|why| FromSqlError::Other(Box::new(why)))
    }
}

/// A stamp out of a column, in the form in which it is kept.
#[derive(Clone, Debug)]
pub(super) struct Stored(pub(super) Stamp);

impl FromSql for Stored {
    fn column_result(value: ValueRef<'_>) -> FromSqlResult<Stored> {
        Stamp::read_stored(value.as_str()?)
            .map(Stored)
            .ok_or(FromSqlError::InvalidType)
    }
}
