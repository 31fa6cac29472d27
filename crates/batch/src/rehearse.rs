//! Everything that can be known before the first medium: whether the images are good, and what the
//! settings of each unit would do on them.

use pinewrit_core::Cancel;
use pinewrit_core::write::{
    ImageDoubt, PlanError, WriteError, WritePlan, WriteRequest, sum_before, try_settings, view,
};
use pinewrit_firstboot::configure::ConfigureError;
use pinewrit_roster::Unit;
use pinewrit_volume::Timestamp;

use crate::{BatchRequest, Sources};

/// A mistake that shows on an image.
#[derive(Debug)]
pub enum Fault {
    /// What is not an image, or not a whole one.
    Doubt(ImageDoubt),
    /// The image could not be examined.
    Plan(PlanError),
    /// Its checksum differs, or it could not be read.
    Source(WriteError),
    /// A unit's settings cannot be put on it.
    Settings(Box<Unit>, ConfigureError),
    /// A unit's settings leave no login.
    NoWayIn(Box<Unit>),
}

/// Checks all images, and the settings of all units on them. Returns all faults, each with the image's name.
pub fn rehearse(
    request: &BatchRequest,
    sources: &Sources,
    cancel: &Cancel,
) -> Vec<(String, Fault)> {
    let mut faults = Vec::new();
    for (content, prepared) in sources.all() {
        let name = content.to_string();
        let mut add = |fault: Fault| faults.push((name.clone(), fault));
        if let Some(expected) = &prepared.checksum
            && let Err(error) = sum_before(&prepared.source, expected, cancel)
        {
            add(Fault::Source(error));
            continue;
        }
        let wanted = WriteRequest::new(request.tool.clone(), request.clock);
        match WritePlan::new(prepared.source.clone(), Vec::new(), wanted) {
            Ok(plan) => plan
                .doubts
                .into_iter()
                .for_each(|doubt| add(Fault::Doubt(doubt))),
            Err(error) => {
                add(Fault::Plan(error));
                continue;
            }
        }
        let device = view(&prepared.source);
        for unit in &request.roster.units {
            let media = unit.media.iter();
            for medium in media.filter(|medium| medium.content == *content && medium.gets_settings)
            {
                let Some(mut settings) = unit.settings.clone() else {
                    continue;
                };
                settings.intake = sources.intake(medium.intake.as_deref());
                settings.grows_root |= medium.grows;
                let now = Timestamp::at((request.clock)());
                let least = (medium.least > 0).then_some(medium.least);
                match try_settings(&device, settings, least, now) {
                    Ok(Some(report)) if report.has_way_in == Some(false) => {
                        add(Fault::NoWayIn(Box::new(unit.clone())));
                    }
                    // Beyond the preview, the write itself will tell.
                    Ok(_) => {}
                    Err(error) => add(Fault::Settings(Box::new(unit.clone()), error)),
                }
            }
        }
    }
    faults
}
