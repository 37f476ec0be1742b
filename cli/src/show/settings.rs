//! Settings, a line each.

use std::path::Path;

use pyrotyp_core::text::Shown;
use serde::Serialize;
use serde_json::Value;

use super::style::{FAINT, NAME};
use crate::asked::Common;

/// Where a setting comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub(crate) enum SettingOrigin {
    /// Nobody said anything.
    Default,
    /// A file of settings.
    File,
    /// A variable of the environment.
    Environment,
    /// An option of this call.
    Option,
}

/// A setting as it holds.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct SettingRow {
    pub key: &'static str,
    pub value: Value,
    pub from: SettingOrigin,
    /// The files or the variable, where it is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
}

/// All settings; `own` is the file in which a person's belong.
pub(crate) fn table(rows: &[SettingRow], own: Option<&Path>, common: &Common) -> String {
    let values: Vec<String> = rows.iter().map(|row| words(&row.value)).collect();
    let width = values.iter().map(|value| value.chars().count()).max().unwrap_or(0).clamp(5, 32);
    let mut out = format!("{FAINT}{:<9}  {:<width$}  FROM{FAINT:#}\n", "KEY", "VALUE");
    for (row, value) in rows.iter().zip(&values) {
        let from = match (row.from, &row.place) {
            (SettingOrigin::Default, _) => "default".to_owned(),
            (SettingOrigin::Option, _) => "this call".to_owned(),
            (SettingOrigin::File | SettingOrigin::Environment, Some(place)) => place.shown(),
            (SettingOrigin::File, None) => "a file".to_owned(),
            (SettingOrigin::Environment, None) => "the environment".to_owned(),
        };
        out.push_str(&format!("{NAME}{:<9}{NAME:#}  {value:<width$}  {from}\n", row.key));
    }
    if let Some(own) = own.filter(|_| !common.quiet) {
        let there = if own.exists() { "" } else { ", which is not there yet" };
        out.push_str(&format!(
            "next: what is to hold from now on goes into {}{there}; docs/settings.md has every key\n",
            own.shown()
        ));
    }
    out
}

fn words(value: &Value) -> String {
    match value {
        Value::Null => "–".to_owned(),
        Value::Bool(true) => "yes".to_owned(),
        Value::Bool(false) => "no".to_owned(),
        Value::String(text) => text.shown(),
        Value::Array(all) if all.is_empty() => "–".to_owned(),
        Value::Array(all) => all.iter().map(words).collect::<Vec<_>>().join(", "),
        other => other.to_string(),
    }
}
