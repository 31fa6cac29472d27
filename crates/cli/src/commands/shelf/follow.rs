//! `pinewrit shelf use`: catalogues that somebody else keeps.

use std::path::{Path, PathBuf};

use pinewrit_session::shelf::{self, Unusable};
use pinewrit_session::{Context, trust};
use pinewrit_shelf::{Base, Follow, Shelf};
use pinewrit_ui::words::inspection::FactList;
use pinewrit_ui::{Exit, Message, style, units, words};

use super::{ImageRow, Outcome, save, tell, text_of};

pub(super) fn run(cx: &Context, address: &str, key: Option<&Path>, accept: bool) -> Outcome {
    // A key that cannot be used is told before anything is asked of a server.
    trust::keys(key)?;
    let absolute = |path: &Path| {
        let full = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        full.display().to_string()
    };
    let base = Base::of(address);
    let follow = Follow {
        address: match &base {
            Base::File(path) => absolute(path),
            Base::Server(address) => address.clone(),
        },
        signed_by: key.map(absolute),
    };
    let known = followed(cx, &follow.address)?;
    // The key that was named earlier is not forgotten by using it again.
    let (follow, is_new) = match &known {
        Some((file, known)) if key.is_none() => {
            (shelf::absolute(&Base::File(file.clone()), known), false)
        }
        _ => (follow, true),
    };
    let fetched = shelf::fetch(cx, &follow).map_err(|unusable| match unusable {
        Unusable::OutOfReach(why) => {
            let what = format!("the catalogue {} cannot be read", base.place());
            Message::new(Exit::Source, what).fact("found", why)
        }
        Unusable::Refused(message) => message,
    })?;
    if let Some(when) = fetched.as_of {
        let what = format!("the catalogue {} cannot be read now", base.place());
        let when = pinewrit_session::clock::local(when);
        return Err(Message::new(Exit::Source, what).fact("last read", when));
    }
    if !accept {
        shelf::must_not_have_changed(&follow, &fetched)?;
    }
    let base = Base::of(&follow.address);
    let file = match &known {
        Some((file, _)) => file.clone(),
        None => shelf::own_file(cx)?,
    };
    if base == Base::File(std::path::absolute(&file).unwrap_or_default()) {
        let what = format!("{} is your own catalogue", file.display());
        return Err(Message::new(Exit::Usage, what));
    }
    if is_new {
        let told = |e| words::shelf::edit_error(&file.display().to_string(), &e);
        shelf::read_own(&file)?;
        let mut text = text_of(&file)?;
        if let Some((_, known)) = &known {
            let without = pinewrit_shelf::stop_following(&text, &known.address).map_err(told)?;
            text = without.unwrap_or(text);
        }
        save(
            &file,
            &pinewrit_shelf::follow(&text, &follow).map_err(told)?,
        )?;
    }
    shelf::keep(cx, &follow, &fetched);
    let (count, signature) = (fetched.catalogue.images.len(), &fetched.signature);
    let name = fetched.catalogue.name.clone();
    let shelf = Shelf::new(vec![(base, fetched.catalogue)]);
    let rows = shelf.images();
    let rows = rows.iter().map(|found| ImageRow::of(cx, found, None));
    tell(cx, "shelf use", rows.collect());
    let (good, strong) = (style::GOOD, style::STRONG);
    let mut facts = FactList::default();
    facts.add("images", units::grouped(count as u64));
    facts.add(
        "signed",
        match signature {
            Some(found) => words::trust::signed(&found.file, &found.signed),
            None if follow.address.starts_with("http://") => {
                "no: anyone on the network could change it; --signed-by KEY prevents that"
                    .to_owned()
            }
            None => "no; --signed-by KEY requires it".to_owned(),
        },
    );
    facts.add("kept in", file.display().to_string());
    facts.add("next", "pinewrit shelf list");
    let called = name.map_or_else(String::new, |name| format!(" {strong}{name}{strong:#}"));
    cx.ui.result(format!(
        "{good}done:{good:#} the catalogue{called} at {} is followed\n{}",
        follow.address,
        facts.to_text()
    ));
    Ok(())
}

/// The catalogue with this address that one of the user's own follows, and that file.
pub(super) fn followed(cx: &Context, text: &str) -> Result<Option<(PathBuf, Follow)>, Message> {
    let full = std::path::absolute(text).unwrap_or_default();
    for file in shelf::own_files(cx) {
        let own = shelf::read_own(&file)?;
        let base = Base::File(file.clone());
        let is_meant = |follow: &&Follow| {
            let address = &shelf::absolute(&base, follow).address;
            follow.address == text || address == text || Path::new(address) == full
        };
        if let Some(follow) = own.follows.iter().find(is_meant) {
            return Ok(Some((file, follow.clone())));
        }
    }
    Ok(None)
}

/// Stops following a catalogue.
pub(super) fn stop(cx: &Context, file: &Path, follow: &Follow) -> Outcome {
    let place = file.display();
    let told = |e| words::shelf::edit_error(&place.to_string(), &e);
    let text = pinewrit_shelf::stop_following(&text_of(file)?, &follow.address).map_err(told)?;
    save(file, &text.unwrap_or_default())?;
    shelf::forget(cx, &shelf::absolute(&Base::File(file.to_owned()), follow));
    tell(cx, "shelf remove", Vec::new());
    cx.ui
        .result(format!("done: {} is no longer followed\n", follow.address));
    Ok(())
}
