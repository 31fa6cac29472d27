//! The floors of the workspace: who may use whom.

use cargo_metadata::{CargoOpt, DependencyKind, MetadataCommand, Package};

use crate::Done;

/// The crates, the lowest floor first. Each may use what is on floors below its own.
const FLOORS: &[&[&str]] = &[
    &["pinewrit-disk"],
    &[
        "pinewrit-signs",
        "pinewrit-trust",
        "pinewrit-ext4-layout",
        "pinewrit-ext4-journal",
    ],
    &[
        "pinewrit-fat",
        "pinewrit-ext4",
        "pinewrit-table",
        "pinewrit-image",
        "pinewrit-host",
    ],
    &["pinewrit-volume"],
    &["pinewrit-settings"],
    &[
        "pinewrit-boards",
        "pinewrit-firstboot",
        "pinewrit-roster",
        "pinewrit-shelf",
    ],
    &["pinewrit-core"],
    &[
        "pinewrit-boot",
        "pinewrit-build",
        "pinewrit-ledger",
        "pinewrit-measure",
        "pinewrit-relocate",
        "pinewrit-rescue",
    ],
    &["pinewrit-batch", "pinewrit-simboard"],
    &["pinewrit-ui"],
    &["pinewrit-args"],
    &["pinewrit-session"],
    &["pinewrit-revise"],
    &["pinewrit"],
    &["xtask"],
];
/// Crates that are for tests alone.
const FOR_TESTS: &[&str] = &["pinewrit-judges"];
/// Crates that people meet, and the tasks.
const WITH_INTERFACES: &[&str] = &[
    "pinewrit-ui",
    "pinewrit-args",
    "pinewrit-session",
    "pinewrit-revise",
    "pinewrit",
    "xtask",
];
/// Crates of terminals and arguments, for those alone.
const OF_INTERFACES: &[&str] = &[
    "anstream",
    "anstyle",
    "clap",
    "comfy-table",
    "console",
    "crossterm",
    "dialoguer",
    "indicatif",
    "rpassword",
    "rustyline",
    "terminal_size",
];

/// Checks the dependencies of all crates.
pub(crate) fn check() -> Done {
    let metadata = MetadataCommand::new()
        .features(CargoOpt::AllFeatures)
        .no_deps()
        .exec()?;
    let faults: Vec<String> = metadata.packages.iter().flat_map(faults_of).collect();
    if faults.is_empty() {
        Ok(format!(
            "{} crates stand on their floors",
            metadata.packages.len()
        ))
    } else {
        Err(faults.join("\n       ").into())
    }
}

fn floor_of(name: &str) -> Option<usize> {
    FLOORS.iter().position(|floor| floor.contains(&name))
}

fn faults_of(package: &Package) -> Vec<String> {
    let name = package.name.as_str();
    if FOR_TESTS.contains(&name) {
        return Vec::new();
    }
    let Some(own) = floor_of(name) else {
        return vec![format!("{name} has no floor; give it one in crates/xtask")];
    };
    let is_interface = WITH_INTERFACES.contains(&name);
    let dependencies = package.dependencies.iter();
    let used = dependencies.filter(|one| one.kind != DependencyKind::Development);
    used.filter_map(|one| fault(name, own, is_interface, &one.name))
        .collect()
}

fn fault(name: &str, own: usize, is_interface: bool, used: &str) -> Option<String> {
    if FOR_TESTS.contains(&used) {
        return Some(format!("{name} uses {used}, which is for tests"));
    }
    if OF_INTERFACES.contains(&used) && !is_interface {
        return Some(format!("{name} uses {used}, which is for the command line"));
    }
    let floor = floor_of(used)?;
    (floor >= own).then(|| format!("{name} uses {used}, which is not on a floor below"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_workspace_stands_on_its_floors() {
        assert_eq!(check().map_err(|error| error.to_string()).err(), None);
    }

    #[test]
    fn a_step_up_a_step_aside_and_a_terminal_are_told() {
        let core = floor_of("pinewrit-core").unwrap_or_default();
        let fault = |used| fault("pinewrit-core", core, false, used);
        assert_eq!(fault("pinewrit-volume"), None);
        assert!(fault("pinewrit").is_some_and(|what| what.contains("floor")));
        assert!(fault("pinewrit-core").is_some());
        assert!(fault("clap").is_some_and(|what| what.contains("command line")));
        assert!(fault("pinewrit-judges").is_some());
        assert_eq!(fault("serde"), None);
    }
}
