//! Verdicts as JUnit XML: a suite for each capture, a test case for each limit.

use std::io::Write;

use deep_tap::limit::Verdict;
use deep_tap::{Error, ErrorKind};
use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};

use super::Checked;
use super::expectations::said;
use super::table::{cells, explanation};
use crate::errors::Failure;

/// The suites so far.
pub(super) struct Suite(Report);

impl Suite {
    pub(super) fn new() -> Self {
        Suite(Report::new("deep-tap check"))
    }

    /// Adds the verdicts on one capture. A violation is a failure and what was not seen is skipped.
    /// What is inconclusive is a failure of its own type: a build that goes on with it would take it
    /// for passed.
    pub(super) fn add(&mut self, checked: &Checked) {
        let mut suite = TestSuite::new(checked.file.clone());
        for result in &checked.results {
            let cells = cells(checked.tick, result);
            let told =
                format!("required {}, worst {} at {}, margin {}", cells[3], cells[4], cells[5], cells[6]);
            let why = explanation(result).unwrap_or_default();
            let status = match result.verdict {
                Verdict::Pass => TestCaseStatus::success(),
                Verdict::NotSeen => {
                    let mut status = TestCaseStatus::skipped();
                    status.set_message(if why.is_empty() {
                        "not seen: its events never occurred"
                    } else {
                        &why
                    });
                    status
                }
                Verdict::Fail | Verdict::Inconclusive => {
                    let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
                    let kind = if result.verdict == Verdict::Fail { "violated" } else { "inconclusive" };
                    status.set_type(kind).set_message(&cells[8]).set_description(format!("{told}\n{why}"));
                    status
                }
            };
            let mut case = TestCase::new(format!("{} {}", result.symbol, result.what), status);
            case.set_classname(format!("{}.{}", result.reference, result.part));
            case.set_system_out(told);
            suite.add_test_case(case);
        }
        for met in &checked.expectations {
            let (found, _) = said(met);
            let status = match met.verdict {
                Verdict::Pass => TestCaseStatus::success(),
                Verdict::NotSeen => {
                    let mut status = TestCaseStatus::skipped();
                    status.set_message(&found);
                    status
                }
                Verdict::Fail | Verdict::Inconclusive => {
                    let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
                    let kind = if met.verdict == Verdict::Fail { "violated" } else { "inconclusive" };
                    status.set_type(kind).set_message(&found);
                    status
                }
            };
            let mut case = TestCase::new(met.name.as_str(), status);
            case.set_classname("expectation");
            suite.add_test_case(case);
        }
        self.0.add_test_suite(suite);
    }

    pub(super) fn write(&self, to: impl Write) -> Result<(), Failure> {
        self.0.serialize(to).map_err(|error| {
            Error::new(ErrorKind::Io, "the verdicts cannot be written as XML").with_source(error).into()
        })
    }
}
