//! The tables, and how older stores get them. `docs/formats.md` describes them.

use refinery::{Migration, Runner};

use crate::LedgerError;

/// Each step in the order in which it was introduced; what was released is never changed.
const STEPS: &[(&str, &str)] = &[("V1__records", V1), ("V2__speeds", V2)];

const V1: &str = "
CREATE TABLE stations (
    name TEXT PRIMARY KEY,
    seen BIGINT NOT NULL
);
CREATE TABLE media (
    id TEXT PRIMARY KEY,
    tag TEXT,
    bad_at BIGINT,
    bad_why TEXT
);
CREATE TABLE chunk_maps (
    id TEXT PRIMARY KEY,
    image TEXT NOT NULL,
    content BLOB NOT NULL
);
CREATE INDEX chunk_maps_image ON chunk_maps (image);
CREATE TABLE records (
    id TEXT PRIMARY KEY,
    time BIGINT NOT NULL,
    stored BIGINT NOT NULL,
    kind TEXT NOT NULL,
    batch TEXT,
    unit TEXT,
    role TEXT,
    station TEXT,
    medium TEXT,
    tag TEXT,
    model TEXT,
    size BIGINT,
    host_name TEXT,
    addresses TEXT,
    image TEXT,
    checksum TEXT,
    table_id TEXT,
    verified BIGINT NOT NULL,
    written_bytes BIGINT,
    write_millis BIGINT,
    verify_millis BIGINT,
    commissioned BIGINT,
    known_hosts TEXT,
    digest TEXT UNIQUE,
    chunk_map TEXT,
    receipt BLOB
);
CREATE INDEX records_time ON records (time, unit, id);
CREATE INDEX records_unit ON records (unit);
CREATE INDEX records_tag ON records (tag);
CREATE INDEX records_table ON records (table_id);
CREATE TABLE words (
    word TEXT NOT NULL,
    record TEXT NOT NULL,
    PRIMARY KEY (word, record)
);
CREATE INDEX words_record ON words (record, word);
CREATE TABLE events (
    id TEXT PRIMARY KEY,
    time BIGINT NOT NULL,
    stored BIGINT NOT NULL,
    kind TEXT NOT NULL,
    batch TEXT,
    unit TEXT,
    role TEXT,
    station TEXT,
    tag TEXT,
    record TEXT,
    remark TEXT
);
CREATE INDEX events_time ON events (time);
CREATE INDEX events_unit ON events (unit);
CREATE INDEX events_record ON events (record);
CREATE INDEX events_tag ON events (tag);
CREATE TABLE batches (
    name TEXT PRIMARY KEY,
    begun BIGINT NOT NULL
);
CREATE TABLE jobs (
    batch TEXT NOT NULL,
    unit TEXT NOT NULL,
    role TEXT NOT NULL,
    place BIGINT NOT NULL,
    least BIGINT NOT NULL,
    digest TEXT NOT NULL,
    state TEXT NOT NULL,
    token BIGINT NOT NULL,
    lease BIGINT NOT NULL,
    station TEXT,
    tag TEXT,
    tries BIGINT NOT NULL,
    record TEXT,
    made TEXT,
    why TEXT,
    PRIMARY KEY (batch, unit, role)
);
CREATE INDEX jobs_state ON jobs (batch, state, place);
";

const V2: &str = "
CREATE TABLE speeds (
    id TEXT PRIMARY KEY,
    time BIGINT NOT NULL,
    tag TEXT,
    model TEXT,
    size BIGINT,
    real_size BIGINT,
    read_rate BIGINT,
    write_rate BIGINT
);
CREATE INDEX speeds_tag ON speeds (tag, time);
CREATE INDEX speeds_model ON speeds (model, time);
CREATE INDEX records_model ON records (model, time);
";

/// How the two databases differ in what is used here.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Dialect {
    Sqlite,
    Postgres,
}

/// Brings a file up to date; refuses one that a newer program has changed.
pub(crate) fn migrate<C: refinery::Migrate>(connection: &mut C) -> Result<(), LedgerError> {
    let (runner, known) = runner(Dialect::Sqlite)?;
    let applied = runner.get_applied_migrations(connection);
    if is_behind(&applied.unwrap_or_default(), known)? {
        runner.run(connection).map_err(failed)?;
    }
    Ok(())
}

/// Brings a server's store up to date; refuses one that a newer program has changed.
pub(crate) async fn migrate_server<C: refinery::AsyncMigrate + Send>(
    connection: &mut C,
) -> Result<(), LedgerError> {
    let (runner, known) = runner(Dialect::Postgres)?;
    let applied = runner.get_applied_migrations_async(connection).await;
    if is_behind(&applied.unwrap_or_default(), known)? {
        runner.run_async(connection).await.map_err(failed)?;
    }
    Ok(())
}

fn is_behind(applied: &[Migration], known: i64) -> Result<bool, LedgerError> {
    let newest = applied.iter().map(|one| i64::from(one.version())).max();
    match newest {
        Some(newest) if newest > known => Err(LedgerError::Newer { newest, known }),
        newest => Ok(newest != Some(known)),
    }
}

/// All steps, and how many there are.
fn runner(dialect: Dialect) -> Result<(Runner, i64), LedgerError> {
    let steps = STEPS.iter().map(|(name, sql)| {
        let sql = match dialect {
            Dialect::Sqlite => sql.replace(
                "    PRIMARY KEY (word, record)\n)",
                "    PRIMARY KEY (word, record)\n) WITHOUT ROWID",
            ),
            // Words are compared byte by byte, so that a prefix is a range.
            Dialect::Postgres => sql
                .replace("BLOB", "BYTEA")
                .replace("word TEXT NOT NULL", "word TEXT COLLATE \"C\" NOT NULL"),
        };
        Migration::unapplied(name, &sql)
    });
    let steps: Vec<Migration> = steps.collect::<Result<_, _>>().map_err(failed)?;
    let mut runner = Runner::new(&steps)
        .set_grouped(true)
        .set_abort_missing(false);
    runner.set_migration_table_name("ledger_versions");
    Ok((runner, steps.len() as i64))
}

fn failed(error: refinery::Error) -> LedgerError {
    LedgerError::Store(Box::new(error))
}
