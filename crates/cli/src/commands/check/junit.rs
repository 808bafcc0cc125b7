//! Verdicts as JUnit XML: a suite for each capture, a test case for each limit.

use chrono::DateTime;
use deep_tap::limit::Verdict;
use deep_tap::{Error, ErrorKind, printable};
use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};

use super::checked::Checked;
use super::expectations::said;
use super::table::{cells, explanation};
use crate::errors::Failure;
use crate::output::Pending;

/// The suites so far.
pub(crate) struct Suite(Report);

impl Suite {
    pub(crate) fn new() -> Self {
        Suite(Report::new("deep-tap check"))
    }

    /// Adds the verdicts on one capture. A violation is a failure and what was not seen is skipped.
    /// What is inconclusive is a failure of its own type: a build that goes on with it would take it
    /// for passed.
    pub(crate) fn add(&mut self, checked: &Checked) {
        let mut suite = TestSuite::new(printable(&checked.file));
        let made = checked.made.as_deref().and_then(|made| DateTime::parse_from_rfc3339(made).ok());
        if let Some(made) = made {
            suite.set_timestamp(made);
        }
        for assumption in checked.assumptions() {
            suite.add_property(("assumption", assumption.as_str()));
        }
        for result in &checked.results {
            let cells = cells(checked.tick, result);
            let told =
                format!("required {}, worst {} at {}, margin {}", cells[3], cells[4], cells[5], cells[6]);
            let why = explanation(result).unwrap_or_default();
            let message = match result.verdict {
                Verdict::NotSeen if why.is_empty() => "not seen: its events never occurred",
                Verdict::NotSeen => &why,
                _ => &cells[8],
            };
            let status = status(result.verdict, message, &format!("{told}\n{why}"));
            let mut case = TestCase::new(format!("{} {}", result.symbol, result.what), status);
            case.set_classname(format!("{}.{}", result.reference, result.part));
            case.set_system_out(told);
            suite.add_test_case(case);
        }
        for met in &checked.expectations {
            let (found, _) = said(met);
            let status = status(met.verdict, &found, &found);
            let mut case = TestCase::new(met.name.as_str(), status);
            case.set_classname("expectation");
            suite.add_test_case(case);
        }
        self.0.add_test_suite(suite);
    }

    pub(crate) fn write(&self, to: &mut Pending) -> Result<(), Failure> {
        let text = self.0.to_string().map_err(|error| {
            Error::new(ErrorKind::Io, "the verdicts cannot be written as XML").with_source(error)
        })?;
        to.write(text.as_bytes())
    }
}

fn status(verdict: Verdict, message: &str, description: &str) -> TestCaseStatus {
    let mut status = match verdict {
        Verdict::Pass => return TestCaseStatus::success(),
        Verdict::NotSeen => TestCaseStatus::skipped(),
        Verdict::Fail | Verdict::Inconclusive => TestCaseStatus::non_success(NonSuccessKind::Failure),
    };
    match verdict {
        Verdict::Fail => status.set_type("violated").set_description(description),
        Verdict::Inconclusive => status.set_type("inconclusive").set_description(description),
        Verdict::Pass | Verdict::NotSeen => &mut status,
    };
    status.set_message(message);
    status
}
