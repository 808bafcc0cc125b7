//! The comparison as JUnit XML: a test case for each thing that was compared.

use deep_tap::{Error, ErrorKind, printable};
use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};

use super::items::Item;
use crate::args;
use crate::errors::Failure;
use crate::output::Pending;

pub(super) fn write(args: &args::Compare, items: &[Item], to: &mut Pending) -> Result<(), Failure> {
    let name = format!("{} and {}", args.a.display(), args.b.display());
    let mut suite = TestSuite::new(printable(&name));
    for item in items {
        let status = match item.differs {
            false => TestCaseStatus::success(),
            true => {
                let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
                let message = format!("A: {}, B: {}", item.a, item.b);
                status.set_type("differs").set_message(message).set_description(item.how.as_str());
                status
            }
        };
        let mut case = TestCase::new(item.name.as_str(), status);
        case.set_classname(item.kind);
        suite.add_test_case(case);
    }
    let mut report = Report::new("deep-tap compare");
    report.add_test_suite(suite);
    let text = report.to_string().map_err(|error| {
        Error::new(ErrorKind::Io, "the comparison cannot be written as XML").with_source(error)
    })?;
    to.write(text.as_bytes())
}
