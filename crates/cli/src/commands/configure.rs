//! `pinewrit configure MEDIUM --settings FILE`, and `--as-new`

use pinewrit_args::{ChangeArgs, ConfigureArgs};
use pinewrit_core::receipt::ReceiptSettings;
use pinewrit_disk::FreeWrites;
use pinewrit_firstboot::as_new::{self, AsNewReport};
use pinewrit_firstboot::configure::{
    ChangeKind, ConfigureError, ConfigureReport, FileChange, apply,
};
use pinewrit_settings::CheckedSettings;
use pinewrit_ui::words;
use pinewrit_ui::words::inspection::{self, FactList};
use pinewrit_ui::{Answer, Event, Exit, MediumName, Message, Ui, style};
use pinewrit_volume::Gathered;
use schemars::JsonSchema;
use serde::Serialize;

use super::{Outcome, clone};
use pinewrit_session::Context;
use pinewrit_session::change::{self, Opened};
use pinewrit_session::clock;
use pinewrit_session::settings;

/// What settings change, or have changed.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ConfigureEvent<'a> {
    /// The command.
    command: &'static str,
    #[serde(flatten)]
    medium: MediumName,
    /// Whether nothing was changed.
    dry_run: bool,
    /// What was taken away to make the system as new.
    #[serde(skip_serializing_if = "Option::is_none")]
    as_new: Option<&'a AsNewReport>,
    #[serde(flatten)]
    report: Option<&'a ConfigureReport>,
}

impl Event for ConfigureEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["configure"];
}

/// What is worked out: without settings, only what is taken away.
struct Outcomes {
    as_new: Option<AsNewReport>,
    configured: Option<ConfigureReport>,
}

impl Outcomes {
    fn is_unchanged(&self) -> bool {
        let takes = self
            .as_new
            .as_ref()
            .is_some_and(|report| !report.taken.is_empty());
        !takes
            && self
                .configured
                .as_ref()
                .is_none_or(ConfigureReport::is_unchanged)
    }

    fn paths(&self) -> Vec<String> {
        let taken = self.as_new.iter().flat_map(|report| &report.taken);
        let files = self.configured.iter().flat_map(|report| &report.files);
        let changed = files.filter(|file| file.kind != ChangeKind::Same);
        taken
            .map(|one| one.path.clone())
            .chain(changed.map(|file| file.path.clone()))
            .collect()
    }
}

/// What the receipt says about settings.
fn for_receipt(checked: &CheckedSettings, report: &ConfigureReport) -> ReceiptSettings {
    ReceiptSettings {
        host_name: checked.host_name.clone(),
        digest: settings::digest(checked),
        files: report.files.iter().map(|file| file.path.clone()).collect(),
        intake: Some(report.intake.clone()),
        known_hosts: report.host_key.as_ref().map(|key| key.known_hosts.clone()),
    }
}

pub(crate) fn run(cx: &Context, args: &ConfigureArgs) -> Outcome {
    let settings = args.settings.as_deref();
    let checked = settings.map(|path| settings::read(&cx.ui, path, args.intake.as_deref()));
    let mut checked = checked.transpose()?;
    if let Some(checked) = &mut checked {
        checked.grows_root |= args.grow;
    }
    let wanted = clone::as_new(&args.new);
    let change = &args.change;
    let opened = change::open(cx, change, None)?;
    let Opened {
        name, medium, undo, ..
    } = &opened;
    let free = FreeWrites::default();
    let prepared = Gathered::files(&*medium.device, free, clock::timestamp(), |site| {
        site.set_flags(change.flags())?;
        let as_new = wanted.as_ref().map(|wanted| as_new::apply(site, wanted));
        let as_new = as_new.transpose()?;
        let configured = checked.as_ref().map(|checked| apply(site, checked));
        Ok::<_, ConfigureError>(Outcomes {
            as_new,
            configured: configured.transpose()?,
        })
    });
    let prepared = prepared.map_err(|e| words::configure_error(name, &e))?;
    let (prepared, outcomes) = prepared.split();
    if let Some(report) = outcomes.configured.as_ref().filter(|_| !change.dry_run) {
        settings::must_have_way_in(&cx.ui, report, change.yes)?;
    }
    change::tell_recovered(&cx.ui, &opened.id, prepared.recovered(), change.dry_run);
    if !change.dry_run && !outcomes.is_unchanged() {
        if let Some(report) = &outcomes.configured {
            confirm(&cx.ui, change, report)?;
        }
        if let Some(report) = &outcomes.as_new {
            confirm_as_new(&cx.ui, change, name, report)?;
        }
        prepared
            .commit(Some(undo))
            .map_err(|e| words::commit_error(name, &e))?;
        let kept = checked.as_ref().zip(outcomes.configured.as_ref());
        let kept = kept.map(|(checked, report)| for_receipt(checked, report));
        opened.amend_settings(cx, kept, outcomes.paths());
    }
    cx.ui.event(&ConfigureEvent {
        command: "configure",
        medium: opened.id.clone(),
        dry_run: change.dry_run,
        as_new: outcomes.as_new.as_ref(),
        report: outcomes.configured.as_ref(),
    });
    if let Some(report) = &outcomes.as_new {
        cx.ui.result(as_new_text(name, report, change.dry_run));
    }
    if let (Some(checked), Some(report)) = (&checked, &outcomes.configured) {
        cx.ui.result(if change.dry_run {
            dry_run_text(name, report)
        } else {
            done_text(name, &settings::brief(checked), report)
        });
    }
    Ok(())
}

/// What is taken away is gone for good.
fn confirm_as_new(ui: &Ui, args: &ChangeArgs, name: &str, report: &AsNewReport) -> Outcome {
    if report.taken.is_empty() {
        return Ok(());
    }
    let count = report.taken.len();
    let question = format!("Take {count} files away from {name}?");
    change::confirm(ui, args, &question, &format!("{count} files would be lost"))
}

fn as_new_text(name: &str, report: &AsNewReport, is_dry: bool) -> String {
    let (good, strong) = (style::GOOD, style::STRONG);
    let mut facts = FactList::default();
    words::as_new_facts(report, &mut facts);
    let head = if is_dry {
        format!("{strong}{name}{strong:#} would be as new; nothing was changed (--dry-run)\n")
    } else {
        format!("{good}done:{good:#} {name} is as new\n")
    };
    let list = if is_dry {
        words::as_new_list(report)
    } else {
        String::new()
    };
    head + &facts.to_text() + &list
}

/// Files that may belong to others are only replaced after confirmation.
fn confirm(ui: &Ui, args: &ChangeArgs, report: &ConfigureReport) -> Outcome {
    let changed = |file: &&FileChange| file.kind == ChangeKind::Changed;
    let replaced: Vec<_> = report.files.iter().filter(changed).collect();
    if replaced.is_empty() || args.yes {
        return Ok(());
    }
    let names: Vec<_> = replaced.iter().map(|file| file.path.as_str()).collect();
    let question = format!("Replace {} on the medium?", names.join(", "));
    match ui.ask(question) {
        Answer::Yes => Ok(()),
        Answer::No => Err(Message::new(Exit::Refused, "nothing was changed")),
        Answer::NobodyToAsk => Err(Message::new(
            Exit::Refused,
            "this medium already has settings, and there is nobody to ask",
        )
        .fact("replaced", names.join(", "))
        .remedy("--yes replaces them; --dry-run shows how")),
    }
}

fn place(report: &ConfigureReport) -> String {
    let what = match report.intake.as_str() {
        "cloud-init" => "cloud-init seed",
        "rootfs" => "root file system",
        other => other,
    };
    match report.partition {
        Some(number) => format!("{what} on partition {number}"),
        None => what.to_owned(),
    }
}

/// The most files to list by name; more are counted.
const MAX_NAMED: usize = 3;

/// What happened to the files: `user-data and meta-data new`.
pub(super) fn files(report: &ConfigureReport) -> String {
    let mut parts = Vec::new();
    let few = report.files.len() <= 2 * MAX_NAMED;
    for (kind, word) in [
        (ChangeKind::New, "new"),
        (ChangeKind::Changed, "replaced"),
        (ChangeKind::Renewed, "new for this unit"),
        (ChangeKind::Edited, "edited"),
        (ChangeKind::Removed, "removed"),
        (ChangeKind::Same, "as it was"),
    ] {
        let of_kind = report.files.iter().filter(|file| file.kind == kind);
        let names: Vec<_> = of_kind
            .map(|file| file.path.trim_start_matches('/'))
            .collect();
        match names.len() {
            0 => {}
            len if few || len <= MAX_NAMED => parts.push(format!("{} {word}", names.join(", "))),
            len => parts.push(format!("{len} files {word}")),
        }
    }
    format!("{}: {}", place(report), parts.join("; "))
}

/// Remarks besides the files, by name.
pub(super) fn more(report: &ConfigureReport) -> Vec<(&'static str, String)> {
    let key = report.host_key.iter().flat_map(|key| {
        let fingerprint = format!("{}; its line for known_hosts:", key.fingerprint);
        [("host key", fingerprint), ("", key.known_hosts.clone())]
    });
    more_with(report, key.collect())
}

/// The same for a dry run: random values will differ in the real run.
fn more_of_dry_run(report: &ConfigureReport) -> Vec<(&'static str, String)> {
    match &report.host_key {
        Some(key) if key.is_new => {
            let key = "made when this is carried out; its fingerprint is shown then";
            more_with(report, vec![("host key", key.to_owned())])
        }
        _ => more(report),
    }
}

fn more_with(
    report: &ConfigureReport,
    host_key: Vec<(&'static str, String)>,
) -> Vec<(&'static str, String)> {
    let mut facts = vec![("intake", format!("{}: {}", report.intake, report.reason))];
    if let Some(network) = report.network {
        facts.push(("network", format!("by {network}")));
    }
    if report.has_way_in == Some(false) {
        let note = "nobody can log in: no account has a password or a key";
        facts.push(("note", note.to_owned()));
    }
    if let Some(grown) = report
        .grown
        .as_ref()
        .filter(|grown| grown.size > grown.before)
    {
        facts.push(("grown", inspection::grown(grown)));
    }
    facts.extend(host_key);
    facts.extend(label_note(report).map(|note| ("note", note)));
    facts.extend(report.notes.iter().map(|note| ("note", note.clone())));
    facts
}

/// The note if cloud-init does not look there by default.
fn label_note(report: &ConfigureReport) -> Option<String> {
    (!report.found_by_label).then(|| {
        "cloud-init looks on file systems with the label CIDATA; this one has another, so the \
         image must be set up to look there"
            .to_owned()
    })
}

fn done_text(name: &str, brief: &str, report: &ConfigureReport) -> String {
    let good = style::GOOD;
    let mut facts = FactList::default();
    let head = if report.is_unchanged() {
        format!("{good}unchanged:{good:#} {name} already has these settings: {brief}\n")
    } else {
        facts.add("files", files(report));
        format!("{good}done:{good:#} {name} is configured: {brief}\n")
    };
    for (name, text) in more(report) {
        facts.add(name, text);
    }
    head + &facts.to_text()
}

fn dry_run_text(name: &str, report: &ConfigureReport) -> String {
    let strong = style::STRONG;
    let mut text = if report.is_unchanged() {
        format!("{strong}{name}{strong:#} already has these settings (--dry-run)\n")
    } else {
        format!(
            "{strong}{name}{strong:#} would change like this; nothing was changed (--dry-run)\n"
        )
    };
    let mut facts = FactList::default();
    facts.add("files", files(report));
    for (name, fact) in more_of_dry_run(report) {
        facts.add(name, fact);
    }
    text += &facts.to_text();
    for file in &report.files {
        if file.kind == ChangeKind::Same {
            continue;
        }
        let word = match file.kind {
            ChangeKind::New => "new",
            ChangeKind::Removed => "removed",
            ChangeKind::Renewed => "new for this unit",
            ChangeKind::Edited => "edited",
            _ => "replaced",
        };
        text += &format!("\n{strong}{}{strong:#}  {word}\n", file.path);
        if file.hidden && file.kind != ChangeKind::Removed {
            text += "  not shown: it contains secrets\n";
        }
        text += &change::colored(&file.diff);
    }
    text
}
