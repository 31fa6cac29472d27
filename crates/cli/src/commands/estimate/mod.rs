//! `pinewrit estimate ...`, a file a sum

mod fit;
mod net;
mod time;

use pinewrit_args::{EstimateAction, EstimateArgs};
use pinewrit_session::Context;

use super::Outcome;

#[cfg(test)]
pub(crate) use {fit::FitEvent, net::NetEvent, time::TimeEvent};

pub(crate) fn run(cx: &Context, args: &EstimateArgs) -> Outcome {
    match &args.action {
        EstimateAction::Time { .. } => time::run(cx, &args.action),
        EstimateAction::Fit { image, options } => fit::run(cx, image, options),
        EstimateAction::Net { net, pool, with } => net::run(&cx.ui, *net, *pool, with),
    }
}
