//! The verdicts on a record.

use super::Job;
use crate::error::{Error, ErrorKind, Result};
use crate::expect::Met;
use crate::format::READ_AS;
use crate::known::{Rule, hiding_lines};
use crate::limit::{LimitResult, Verdict, check_all, overall};
use crate::line::Signal;
use crate::quantity::{Percent, Time};

/// The verdicts on a record.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Verdicts {
    /// That of all together: the worst.
    pub overall: Verdict,
    /// What became of each limit.
    pub results: Vec<LimitResult>,
    /// What became of what is expected besides timing.
    pub expectations: Vec<Met>,
    /// Limits left out because a pin that they need is not wired, as `U5.tWP`.
    pub not_wired: Vec<String>,
    /// The pins that are not wired, as `U5.OE_N`.
    pub pins_not_wired: Vec<String>,
    /// No line that a limit looks at is taken to have had a pulse this short that fell between two samples,
    /// though that is not stated of all of them.
    pub granted: Option<Time>,
    /// What has to be said of the lines of limits that may have hidden pulses.
    pub remarks: Vec<String>,
}

impl Job {
    /// What an imported record does not state, and is taken for granted, in words.
    fn unstated(&self) -> Option<String> {
        let (capture, resolution) = (&self.capture, self.capture.resolution());
        let import = self.setup.as_ref().map(|setup| &setup.import);
        let is_read = capture.history().iter().any(|told| told.starts_with(READ_AS));
        let no_skew = resolution.skew == Time::ZERO && import.is_none_or(|import| import.skew.is_none());
        let no_error =
            resolution.accuracy == Percent::ZERO && import.is_none_or(|import| import.accuracy.is_none());
        let (what, keys) = match (no_skew, no_error) {
            _ if !is_read || !resolution.sampled => return None,
            (true, true) => ("no skew between its lines and no error of its clock", "'skew' and 'accuracy'"),
            (true, false) => ("no skew between its lines", "'skew'"),
            (false, true) => ("no error of its clock", "'accuracy'"),
            (false, false) => return None,
        };
        Some(format!("taken for granted of the record, which does not say: {what}; state {keys} in [import]"))
    }

    /// Checks the [limits](Self::limits) and expectations of the setup, or those that are named.
    ///
    /// # Errors
    /// When there is no setup, it binds nothing to check, or nothing has a name that is given.
    pub fn check(&self, names: &[impl AsRef<str>], rule: Rule) -> Result<Verdicts> {
        let setup = self.setup()?;
        let limits = self.limits(names)?;
        if setup.limits().next().is_none() && setup.expectations.is_empty() {
            let help = "add a section like: [[part]] with limits = \"parts/ex-mem8.toml\", reference = \"U5\" and its pins";
            let message = "the setup binds no limits, so there is nothing to check";
            return Err(Error::new(ErrorKind::Setup, message).with_help(help));
        }
        let mut signals: Vec<Signal> = limits.iter().flat_map(|limit| limit.signals()).collect();
        signals.sort_unstable();
        signals.dedup();
        let results = check_all(&self.capture, limits, rule)?;
        let remarks = match rule {
            Rule::Proven => {
                let unstated = if results.is_empty() { None } else { self.unstated() };
                hiding_lines(&self.capture, &signals).into_iter().chain(unstated).collect()
            }
            Rule::Measured => Vec::new(),
        };
        let named = |name: &str| names.is_empty() || names.iter().any(|n| n.as_ref() == name);
        let expected = setup.expectations.iter().filter(|e| named(&e.name));
        let expectations = expected.map(|e| e.check(&self.capture)).collect::<Result<Vec<Met>>>()?;
        let verdicts = results.iter().map(|r| r.verdict).chain(expectations.iter().map(|met| met.verdict));
        Ok(Verdicts {
            overall: overall(verdicts),
            not_wired: setup.left_out(),
            pins_not_wired: setup.open_pins(),
            granted: results.iter().filter_map(|result| result.granted).max(),
            remarks,
            results,
            expectations,
        })
    }
}
