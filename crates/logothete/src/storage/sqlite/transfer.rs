//! Rows of tables as JSON, for exporting and importing a whole corpus.

use logothete_core::{Error, ErrorKind, Result};
use rusqlite::params_from_iter;
use rusqlite::types::{Value as Sql, ValueRef};
use serde_json::{Map, Value, json};

use super::{Statements, failed};

pub(super) fn export(
    database: &impl Statements,
    table: &str,
    each: &mut dyn FnMut(Map<String, Value>) -> Result<()>,
) -> Result<()> {
    let order = match table {
        "chunks" | "blocks" => "document, ordinal",
        _ => "id",
    };
    let sql = format!("SELECT * FROM main.{table} ORDER BY {order}");
    let mut statement = database.connection().prepare(&sql).map_err(failed)?;
    let columns: Vec<String> = statement.column_names().map(str::to_owned).collect();
    let mut rows = statement.query([]).map_err(failed)?;
    while let Some(row) = rows.next().map_err(failed)? {
        let mut object = Map::new();
        for (at, column) in columns.iter().enumerate() {
            let value = match row.get_ref(at).map_err(failed)? {
                ValueRef::Null | ValueRef::Blob(_) => Value::Null,
                ValueRef::Integer(number) => json!(number),
                ValueRef::Real(number) => json!(number),
                ValueRef::Text(text) => json!(String::from_utf8_lossy(text)),
            };
            object.insert(column.clone(), value);
        }
        each(object)?;
    }
    Ok(())
}

pub(super) fn import(database: &impl Statements, table: &str, row: &Map<String, Value>) -> Result<()> {
    let invalid = |message: String| Error::new(ErrorKind::Unreadable, message);
    let is_name = |column: &str| column.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
    if let Some(column) = row.keys().find(|column| !is_name(column)) {
        return Err(invalid(format!("{table} has no column “{column}”")));
    }
    let columns: Vec<String> = row.keys().map(|column| format!("\"{column}\"")).collect();
    let places = vec!["?"; columns.len()].join(", ");
    let sql = format!("INSERT INTO main.{table} ({}) VALUES ({places})", columns.join(", "));
    let values = row.values().map(|value| match value {
        Value::Null => Sql::Null,
        Value::Bool(flag) => Sql::Integer(i64::from(*flag)),
        Value::Number(number) => {
            number.as_i64().map_or_else(|| Sql::Real(number.as_f64().unwrap_or_default()), Sql::Integer)
        }
        Value::String(text) => Sql::Text(text.clone()),
        other => Sql::Text(other.to_string()),
    });
    let mut statement = database.connection().prepare_cached(&sql).map_err(|error| invalid(error.to_string()))?;
    statement.execute(params_from_iter(values)).map_err(|error| invalid(format!("this row does not fit: {error}")))?;
    Ok(())
}
