//! The description of all lines of `--json`, generated from their types: a schema for programs, and
//! a page for people. `PINEWRIT_REWRITE_DOCS=1 cargo test -p pinewrit events` rewrites both.

use std::fmt::Write;
use std::path::Path;

use pinewrit_revise as revise;
use pinewrit_ui::{ErrorEvent, Event, batch, progress};
use schemars::SchemaGenerator;
use schemars::generate::SchemaSettings;
use serde_json::{Map, Value, json};

use crate::commands::{
    boards, build, clone, commission, configure, eject, estimate, find, inspect, ledger, measure,
    media, rack, save, shelf, trial, verify, watch, write,
};
use pinewrit_session::{boards as boards_of_session, change, rescue, settings, source};

/// A line, its schema, and the commands that end with it.
struct Described {
    event: &'static str,
    commands: &'static [&'static str],
    schema: Value,
}

fn described<T: Event>(generator: &mut SchemaGenerator) -> Described {
    Described {
        event: T::EVENT,
        commands: T::COMMANDS,
        schema: generator.subschema_for::<T>().to_value(),
    }
}

fn all(generator: &mut SchemaGenerator) -> Vec<Described> {
    let lines = [
        described::<settings::WarningEvent<'_>>,
        described::<source::DownloadEvent>,
        described::<progress::StageEvent<'_>>,
        described::<progress::ProgressEvent<'_>>,
        described::<media::NewEvent>,
        described::<media::GoneEvent>,
        described::<boards_of_session::BoardEvent<'_>>,
        described::<measure::ReplugEvent<'_>>,
        described::<clone::CopyEvent<'_>>,
        described::<change::RecoveredEvent<'_>>,
        described::<rescue::RescueEvent<'_>>,
        described::<rescue::AwayEvent>,
        described::<write::PlanEvent<'_>>,
        described::<build::BuiltEvent<'_>>,
        described::<revise::FileEvent<'_>>,
        described::<revise::ExpectedEvent<'_>>,
        described::<batch::RosterEvent<'_>>,
        described::<batch::UnitsEvent>,
        described::<batch::ClockEvent>,
        described::<batch::SpooledEvent<'_>>,
        described::<batch::WaitingEvent<'_>>,
        described::<batch::UnitStartedEvent<'_>>,
        described::<batch::UnitDoneEvent<'_>>,
        described::<batch::UnitFailedEvent<'_>>,
        described::<batch::LeftAloneEvent>,
        described::<batch::LedgerEvent<'_>>,
        described::<batch::ClosingEvent>,
        described::<ledger::RecordEvent<'_>>,
        described::<ledger::HappenedEvent<'_>>,
        described::<ErrorEvent<'_>>,
        described::<media::MediaEvent>,
        described::<measure::MeasureEvent<'_>>,
        described::<estimate::TimeEvent<'_>>,
        described::<estimate::FitEvent<'_>>,
        described::<estimate::NetEvent<'_>>,
        described::<inspect::InspectEvent<'_>>,
        described::<write::WriteEvent<'_>>,
        described::<save::SaveEvent<'_>>,
        described::<verify::VerifyEvent<'_>>,
        described::<verify::ReceiptEvent<'_>>,
        described::<revise::CheckedEvent<'_>>,
        described::<configure::ConfigureEvent<'_>>,
        described::<build::BuildEvent<'_>>,
        described::<revise::TableEvent<'_>>,
        described::<revise::MoveEvent<'_>>,
        described::<revise::RenewEvent<'_>>,
        described::<revise::FormatEvent<'_>>,
        described::<revise::ListEvent<'_>>,
        described::<revise::ReadEvent<'_>>,
        described::<revise::CheckEvent<'_>>,
        described::<revise::ChangeEvent<'_>>,
        described::<batch::BatchResult<'_>>,
        described::<ledger::LedgerResult>,
        described::<ledger::LedgerVerifyEvent<'_>>,
        described::<eject::EjectEvent>,
        described::<watch::ConsoleEvent<'_>>,
        described::<watch::BootStageEvent>,
        described::<watch::HintEvent<'_>>,
        described::<trial::TrialNewsEvent>,
        described::<trial::TrialEvent<'_>>,
        described::<find::NewsEvent<'_>>,
        described::<find::FindEvent<'_>>,
        described::<watch::WatchEvent<'_>>,
        described::<commission::CommissionEvent<'_>>,
        described::<boards::BoardsEvent>,
        described::<shelf::ShelfEvent>,
        described::<shelf::ShelfCheckEvent>,
        described::<shelf::ListedFileEvent>,
        described::<rack::RackEvent<'_>>,
        described::<rack::power::PowerEvent>,
    ];
    lines.iter().map(|line| line(generator)).collect()
}

fn generator() -> SchemaGenerator {
    SchemaSettings::draft2020_12()
        .for_serialize()
        .into_generator()
}

/// One schema for all lines: it selects the alternative by `event` and `command`.
fn schema() -> Value {
    let mut generator = generator();
    let lines = all(&mut generator);
    let alternatives = lines.iter().map(|line| {
        let mut own = json!({ "event": { "const": line.event } });
        if !line.commands.is_empty() {
            own["command"] = json!({ "enum": line.commands });
        }
        json!({
            "allOf": [line.schema, { "properties": own, "required": ["event"] }],
            "unevaluatedProperties": false,
        })
    });
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A line of pinewrit --json",
        "anyOf": alternatives.collect::<Vec<_>>(),
        "$defs": generator.definitions(),
    })
}

/// A type in readable form; names of other types link to their sections.
fn type_words(schema: &Value) -> String {
    if let Some(name) = schema["$ref"].as_str() {
        let name = name.rsplit('/').next().unwrap_or_default();
        return format!("[{name}](#{})", name.to_lowercase());
    }
    for key in ["anyOf", "oneOf"] {
        if let Some(all) = schema[key].as_array() {
            let words: Vec<String> = all.iter().map(type_words).collect();
            return words.join(" or ");
        }
    }
    if let Some(all) = schema["allOf"].as_array()
        && let [only] = &all[..]
    {
        return type_words(only);
    }
    if let Some(words) = schema["enum"].as_array() {
        return choices(words);
    }
    if let Some(word) = schema["const"].as_str() {
        return format!("`{word}`");
    }
    let of_items = || match &schema["items"] {
        Value::Null => match schema["prefixItems"].as_array() {
            Some(all) => all.iter().map(type_words).collect::<Vec<_>>().join(", "),
            None => "values".to_owned(),
        },
        items => type_words(items),
    };
    let word = |kind: &str| match kind {
        "array" => format!("list of {}", of_items()),
        "object" => "object".to_owned(),
        other => other.to_owned(),
    };
    match &schema["type"] {
        Value::String(kind) => word(kind),
        Value::Array(kinds) => {
            let kinds = kinds.iter().filter_map(Value::as_str).map(word);
            kinds.collect::<Vec<_>>().join(" or ")
        }
        _ => "any".to_owned(),
    }
}

fn choices(words: &[Value]) -> String {
    let words = words.iter().filter_map(Value::as_str);
    let words: Vec<String> = words.map(|word| format!("`{word}`")).collect();
    words.join(", ")
}

fn one_line(text: &Value) -> String {
    let text = text.as_str().unwrap_or_default();
    text.split_whitespace()
        .collect::<Vec<_>>()
        .join(" ")
        .replace('|', "\\|")
}

fn keys(out: &mut String, schema: &Value, shared: &Map<String, Value>) {
    let mut rows = Vec::new();
    collect(&mut rows, schema, shared);
    if rows.is_empty() {
        if schema.get("$ref").is_some() {
            let _ = writeln!(out, "The keys of {}.\n", type_words(schema));
        }
        return;
    }
    out.push_str("| key | type | meaning |\n|---|---|---|\n");
    for (name, words, meaning) in rows {
        let _ = writeln!(out, "| `{name}` | {words} | {meaning} |");
    }
    out.push('\n');
}

/// The keys of an object, including flattened objects.
fn collect(rows: &mut Vec<(String, String, String)>, schema: &Value, shared: &Map<String, Value>) {
    for (name, one) in schema["properties"].as_object().into_iter().flatten() {
        rows.push((name.clone(), type_words(one), one_line(&one["description"])));
    }
    for key in ["allOf", "anyOf"] {
        for part in schema[key].as_array().into_iter().flatten() {
            let name = part["$ref"]
                .as_str()
                .and_then(|name| name.rsplit('/').next());
            match name.and_then(|name| shared.get(name)) {
                Some(part) => collect(rows, part, shared),
                None => collect(rows, part, shared),
            }
        }
    }
}

/// The alternatives of an enum: words, or objects.
fn alternatives(out: &mut String, schema: &Value, shared: &Map<String, Value>) {
    if let Some(words) = schema["enum"].as_array() {
        let _ = writeln!(out, "One of {}.\n", choices(words));
    }
    for part in schema["oneOf"].as_array().into_iter().flatten() {
        if let Some(words) = part["enum"].as_array() {
            let _ = writeln!(out, "- {}", choices(words));
            continue;
        }
        let meaning = one_line(&part["description"]);
        if let Some(word) = part["const"].as_str() {
            let _ = writeln!(out, "- `{word}`: {meaning}");
            continue;
        }
        let _ = writeln!(out, "{meaning}\n");
        keys(out, part, shared);
    }
    out.push('\n');
}

fn page() -> String {
    let mut generator = generator();
    let lines = all(&mut generator);
    let shared = generator.definitions().clone();
    let mut out = String::from(
        "# Lines of `--json`\n\n\
         <!-- Made from the types by `PINEWRIT_REWRITE_DOCS=1 cargo test -p pinewrit events`. -->\n\n\
         With `--json`, stdout holds one JSON object a line and nothing else. Each has a key `event`; the last line is a\n\
         `result` or an `error`, but a difference that `verify` or `files check` finds gives both: the result, then the\n\
         error. Where several media are written, each has a `plan`, and a `result` or an `error`, of its own.\n\n\
         Sizes and offsets are in bytes, durations in seconds, times of files in seconds since 1970. A medium is named by\n\
         two keys everywhere: `medium`, its path, and `tag`, which is null for card files. A key may be missing only\n\
         where its meaning says so. [events.schema.json](events.schema.json) is the same as a JSON Schema.\n\n",
    );
    let resolve = |schema: &Value| -> Value {
        let name = schema["$ref"]
            .as_str()
            .and_then(|name| name.rsplit('/').next());
        name.and_then(|name| shared.get(name))
            .cloned()
            .unwrap_or(schema.clone())
    };
    let mut told: Vec<String> = Vec::new();
    for line in &lines {
        let name = line.schema["$ref"]
            .as_str()
            .and_then(|name| name.rsplit('/').next());
        told.extend(name.map(str::to_owned));
        let of = match line.commands {
            [] => String::new(),
            commands => format!(" of `{}`", commands.join("`, `")),
        };
        let _ = writeln!(out, "## `{}`{of}\n", line.event);
        let schema = resolve(&line.schema);
        let meaning = one_line(&schema["description"]);
        if !meaning.is_empty() {
            let _ = writeln!(out, "{meaning}\n");
        }
        keys(&mut out, &schema, &shared);
    }
    out.push_str("# Parts of lines\n\n");
    for (name, schema) in shared.iter().filter(|(name, _)| !told.contains(name)) {
        let _ = writeln!(out, "## {name}\n\n{}\n", one_line(&schema["description"]));
        if schema["oneOf"].is_array() || schema["enum"].is_array() {
            alternatives(&mut out, schema, &shared)
        } else {
            keys(&mut out, schema, &shared)
        }
    }
    format!("{}\n", out.trim_end())
}

#[test]
fn the_documents_are_those_of_the_types() {
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs");
    let schema = serde_json::to_string_pretty(&schema()).unwrap_or_default() + "\n";
    for (name, text) in [("events.md", page()), ("events.schema.json", schema)] {
        let path = docs.join(name);
        if std::env::var_os("PINEWRIT_REWRITE_DOCS").is_some() {
            assert!(std::fs::write(&path, &text).is_ok(), "{}", path.display());
        }
        let there = std::fs::read_to_string(&path).unwrap_or_default();
        assert!(
            there == text,
            "{name} is out of date: PINEWRIT_REWRITE_DOCS=1 cargo test -p pinewrit events"
        );
    }
}
