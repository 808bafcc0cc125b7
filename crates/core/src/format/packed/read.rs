//! Reading packed samples.

use std::io::Read;
use std::sync::Arc;

use crate::capture::{Capture, Origin, Trace};
use crate::error::{Error, ErrorKind, Place, Result};
use crate::format::READ_AS;
use crate::format::source::{Reader, Source};
use crate::format::spill::Spill;
use crate::line::{Input, Line};
use crate::quantity::Time;
use crate::scan::{Filler, SampleWidth, Samples as Block};
use crate::setup::{ByteOrder, Import};
use crate::time::{Resolution, TimeBase};

/// Bytes read at once.
const BLOCK: usize = 1 << 20;

/// Samples in a file, and what is known of them.
pub(crate) struct Samples {
    /// Bytes of a sample.
    pub(crate) width: SampleWidth,
    pub(crate) order: ByteOrder,
    /// Bytes before the first sample.
    pub(crate) skip: u64,
    /// Number of samples, where the file says it.
    pub(crate) count: Option<u64>,
    /// Which bits of a sample are lines, each with its name.
    pub(crate) lines: Vec<(u32, String)>,
    /// What to tell of the format.
    pub(crate) told: String,
}

/// Reads packed samples of which this is stated.
pub(crate) fn read_source(
    source: &Source,
    stated: &Import,
    spill: Option<&mut dyn Spill>,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<Capture> {
    let Some(width) = stated.width else {
        let error = source.refused("it is not stated how many bytes a packed sample takes");
        return Err(error.with_help("state it: width = 1, 2, 4 or 8 in [import]"));
    };
    let order = match (stated.byte_order, width) {
        (Some(order), _) => order,
        (None, SampleWidth::W8) => ByteOrder::Little,
        (None, _) => {
            let error = source.refused("it is not stated which byte of a packed sample comes first");
            return Err(error.with_help("state it: byte-order = \"little\" or \"big\" in [import]"));
        }
    };
    let bytes = width.bytes();
    let told = match bytes {
        1 => "1 byte a sample".to_string(),
        bytes => format!(
            "{bytes} bytes a sample, the {} one first",
            if order == ByteOrder::Little { "least" } else { "most" }
        ),
    };
    let lines = (0..width.inputs()).map(|bit| (bit, format!("bit {bit}"))).collect();
    let samples = Samples { width, order, skip: stated.skip.unwrap_or(0), count: None, lines, told };
    samples.read(source, stated, spill, progress)
}

/// The period that is stated of samples that come without times.
pub(crate) fn period(source: &Source, stated: &Import) -> Result<Time> {
    stated.period.ok_or_else(|| {
        let error = source.refused("it is not stated at which rate these samples were taken");
        error.with_help("state it: rate = \"1 MS/s\" in [import]")
    })
}

impl Samples {
    /// Reads all samples.
    pub(crate) fn read(
        &self,
        source: &Source,
        stated: &Import,
        mut spill: Option<&mut dyn Spill>,
        progress: &mut dyn FnMut(u64, u64),
    ) -> Result<Capture> {
        let base = TimeBase::from_tick(period(source, stated)?)
            .map_err(|e| e.at(Place::File(source.name().into())))?;
        let describe = |len: u64, remarks: &[String]| {
            let told = format!("{READ_AS}packed samples, {}, {}", self.told, base.rate());
            let origin =
                Origin { source: format!("samples {}", source.name().display()), ..Origin::default() };
            let mut builder = Capture::builder(base, len).resolution(Resolution::SAMPLED).origin(origin);
            builder = builder.history(vec![told]);
            remarks.iter().fold(builder, |builder, remark| builder.remark(remark.clone()))
        };
        let with_lines = |builder: crate::capture::CaptureBuilder, traces: &[Arc<Trace>]| {
            let lines = self.lines.iter().zip(traces);
            lines.fold(builder, |builder, ((bit, name), trace)| {
                let line = Line { input: Some(Input::Number(*bit)), ..Line::named(name.as_str()) };
                builder.line(line, Arc::clone(trace))
            })
        };
        if let Some(spill) = &mut spill {
            let nothing =
                self.lines.iter().map(|_| Arc::new(Trace::constant(crate::line::Level::Unknown, 0)));
            let nothing: Vec<Arc<Trace>> = nothing.collect();
            spill.begin(with_lines(describe(0, &[]), &nothing).build()?)?;
        }
        let bits: Vec<u32> = self.lines.iter().map(|(bit, _)| *bit).collect();
        let mut filler = Filler::new(&bits);
        let mut reader = source.reader();
        let mut handed_on = 0;
        let mut early = None;
        let mut rest = 0;
        let skipped =
            skip(&mut reader, self.skip).map_err(|error| source.unreadable(error, reader.given()))?;
        if skipped < self.skip {
            let message = format!(
                "this file has {skipped} bytes, and {} are to be left out at its beginning",
                self.skip
            );
            return Err(Error::new(ErrorKind::Capture, message).at(Place::File(source.name().into())));
        }
        let mut block = vec![0; BLOCK];
        let mut held = 0;
        loop {
            let wanted = match self.count {
                Some(count) => ((count - filler.position()) * self.width.bytes() as u64 - held as u64)
                    .min((BLOCK - held) as u64) as usize,
                None => BLOCK - held,
            };
            let read = match reader.read(&mut block[held..held + wanted]) {
                Ok(read) => read,
                Err(error) => {
                    let error = source.unreadable(error, reader.given());
                    if !stated.partial {
                        return Err(error);
                    }
                    early = Some(error);
                    0
                }
            };
            held += read;
            let whole = held - held % self.width.bytes();
            if self.order == ByteOrder::Big {
                block[..whole].chunks_exact_mut(self.width.bytes()).for_each(<[u8]>::reverse);
            }
            filler.push(Block::new(self.width, &block[..whole]));
            block.copy_within(whole..held, 0);
            held -= whole;
            if let Some(spill) = &mut spill {
                let position = filler.position() / crate::capture::CHUNK * crate::capture::CHUNK;
                if position > handed_on && spill.is_wanted(filler.weight(), position - handed_on) {
                    let traces = filler.cut(position);
                    spill.part(&traces.iter().collect::<Vec<_>>(), position)?;
                    handed_on = position;
                }
            }
            progress(reader.consumed(), source.len());
            if read == 0 {
                rest += held;
                break;
            }
        }
        let len = filler.position();
        if len == 0 {
            return Err(source.refused("there is not a single sample in this file"));
        }
        let mut remarks = Vec::new();
        if rest > 0 {
            remarks.push(format!(
                "the file ends in the middle of a sample: its last {rest} byte{} were left out",
                if rest == 1 { "" } else { "s" }
            ));
        }
        if let Some(count) = self.count.filter(|count| *count > len) {
            remarks.push(format!("the file says that it has {count} samples, and ends after {len}"));
        }
        remarks.extend(early.map(|error| format!("{}: the rest was left out", error.message())));
        let traces: Vec<Arc<Trace>> = filler.finish().into_iter().map(Arc::new).collect();
        with_lines(describe(len, &remarks), &traces)
            .build()
            .map_err(|e| e.at(Place::File(source.name().into())))
    }
}

/// Passes bytes; how many there were.
pub(crate) fn skip(reader: &mut Reader<'_>, bytes: u64) -> std::io::Result<u64> {
    std::io::copy(&mut reader.by_ref().take(bytes), &mut std::io::sink())
}
