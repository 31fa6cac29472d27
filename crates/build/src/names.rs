//! The identifiers of the new medium, to which texts of a layout may refer.

use std::collections::BTreeMap;

use minijinja::{Environment, UndefinedBehavior, Value};
use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Window};
use pinewrit_volume::files::fill::{Naming, Refusal};
use pinewrit_volume::format::FormatKind;
use pinewrit_volume::probe;
use serde::Serialize;

use super::PartitionPlan;

/// The most steps of a template, which ends endless loops.
const FUEL: u64 = 100_000;

/// The medium, as templates see it.
#[derive(Debug, Serialize)]
pub(super) struct Names {
    /// Disk signature or disk GUID.
    disk: String,
    /// Partitions by number, name and label, and as `boot` and `root`.
    partition: BTreeMap<String, PartitionNames>,
}

#[derive(Clone, Debug, Serialize)]
struct PartitionNames {
    number: u32,
    partuuid: String,
    uuid: Option<String>,
    label: Option<String>,
}

/// A new partition: its plan, its number, its PARTUUID and its place.
pub(super) struct Made<'p> {
    pub(super) plan: &'p PartitionPlan,
    pub(super) number: u32,
    pub(super) partuuid: String,
    pub(super) range: ByteRange,
}

impl Names {
    /// Reads the identifiers of the new file systems.
    pub(super) fn of(
        disk: String,
        made: &[Made<'_>],
        device: &dyn BlockDevice,
    ) -> Result<Self, DiskError> {
        let mut partition = BTreeMap::new();
        let mut add = |name: &str, found: &PartitionNames| {
            if !name.is_empty() {
                partition
                    .entry(name.to_owned())
                    .or_insert_with(|| found.clone());
            }
        };
        let mut boot = None;
        let mut root = None;
        for one in made {
            let facts = match one.plan.filesystem {
                Some(_) => probe(&Window::new(device, one.range))?,
                None => None,
            };
            let found = PartitionNames {
                number: one.number,
                partuuid: one.partuuid.clone(),
                uuid: facts.as_ref().and_then(|facts| facts.id.clone()),
                label: facts.and_then(|facts| facts.label),
            };
            add(&one.number.to_string(), &found);
            add(&one.plan.name, &found);
            add(&one.plan.label, &found);
            add(&one.plan.label.to_lowercase(), &found);
            match one.plan.filesystem {
                Some(FormatKind::Fat(_)) => boot = boot.or(Some(found)),
                Some(FormatKind::Ext4) => root = root.or(Some(found)),
                _ => {}
            }
        }
        for (name, found) in [("boot", boot), ("root", root)] {
            if let Some(found) = found {
                add(name, &found);
            }
        }
        Ok(Self { disk, partition })
    }
}

impl Naming for Names {
    fn rendered(&self, text: &str) -> Result<String, Refusal> {
        let mut environment = Environment::new();
        environment.set_undefined_behavior(UndefinedBehavior::Strict);
        environment.set_auto_escape_callback(|_| minijinja::AutoEscape::None);
        environment.set_keep_trailing_newline(true);
        environment.set_fuel(Some(FUEL));
        let rendered = environment.render_str(text, Value::from_serialize(self));
        rendered.map_err(|error| {
            let line = error.line().map_or(String::new(), |line| format!(" in line {line} of it"));
            let known: Vec<&str> = self.partition.keys().map(String::as_str).collect();
            Refusal::new(
                format!("a placeholder cannot be filled in: {error}{line}"),
                format!(
                    "disk, or partition.NAME with number, partuuid, uuid or label; NAME is one of {}",
                    known.join(", ")
                ),
            )
        })
    }
}
