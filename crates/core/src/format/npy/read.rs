//! Reading an array.

use std::io::Read;
use std::sync::Arc;

use super::archive;
use super::header::{Element, Header, Kind, header};
use crate::capture::{Capture, Origin, Trace};
use crate::error::{Place, Result};
use crate::format::READ_AS;
use crate::format::analog::Volts;
use crate::format::bits::{BitColumn, WIDEST, Word};
use crate::format::fill::{Filling, Meant};
use crate::format::packed::{Samples, period, skip};
use crate::format::source::Source;
use crate::format::spill::Spill;
use crate::line::{AnalogLine, Input};
use crate::scan::SampleWidth;
use crate::setup::Import;
use crate::time::{Resolution, TimeBase};

/// Most columns of a matrix.
const MOST_COLUMNS: u64 = 4096;

/// Reads an array of which this is stated.
pub(crate) fn read_source(
    source: &Source,
    stated: &Import,
    spill: Option<&mut dyn Spill>,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<Capture> {
    let head = source.head();
    if head.starts_with(b"PK") {
        let array = archive::array(source, stated.array.as_deref())?;
        return read_array(&array, stated, spill, progress);
    }
    read_array(source, stated, spill, progress)
}

fn read_array(
    source: &Source,
    stated: &Import,
    spill: Option<&mut dyn Spill>,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<Capture> {
    let header = header(source, &source.head())?;
    if header.rows == 0 || header.columns == 0 {
        return Err(source.refused("there is not a single sample in this array"));
    }
    if header.columns > MOST_COLUMNS {
        let error =
            source.refused(format!("this matrix has {} columns and {} rows", header.columns, header.rows));
        return Err(error.with_help("a row is a sample: transpose it before it is saved"));
    }
    let [element] = &header.fields[..] else { return Matrix::of(source, stated, header).read(progress) };
    if header.columns > 1 || header.structured || element.kind != Kind::Unsigned {
        return Matrix::of(source, stated, header).read(progress);
    }
    let width = SampleWidth::ALL.into_iter().find(|width| width.bytes() == element.size).unwrap_or_default();
    let samples = Samples {
        width,
        order: element.order,
        skip: header.len as u64,
        count: Some(header.rows),
        lines: (0..width.inputs()).map(|bit| (bit, format!("bit {bit}"))).collect(),
        told: format!("an array of {} numbers of {} bits", header.rows, 8 * element.size),
    };
    samples.read(source, stated, spill, progress)
}

/// A column while it is read.
enum Column {
    Bits(BitColumn),
    Volts(Volts),
}

/// A matrix, or a structured array: each column is a line, a bus or a voltage.
struct Matrix<'a> {
    source: &'a Source,
    stated: &'a Import,
    header: Header,
}

impl<'a> Matrix<'a> {
    fn of(source: &'a Source, stated: &'a Import, header: Header) -> Self {
        Matrix { source, stated, header }
    }

    fn elements(&self) -> Vec<Element> {
        match self.header.structured {
            true => self.header.fields.clone(),
            false => {
                let named = |n| Element { name: format!("column {n}"), ..self.header.fields[0].clone() };
                (0..self.header.columns).map(named).collect()
            }
        }
    }

    fn read(&self, progress: &mut dyn FnMut(u64, u64)) -> Result<Capture> {
        let name = self.source.name();
        let base = TimeBase::from_tick(period(self.source, self.stated)?)
            .map_err(|e| e.at(Place::File(name.into())))?;
        let elements = self.elements();
        let mut bit_columns = 0;
        let mut columns: Vec<Column> = Vec::new();
        for element in &elements {
            columns.push(match element.kind {
                Kind::Float => Column::Volts(Volts::default()),
                _ => {
                    let column = BitColumn::new(bit_columns * WIDEST, None);
                    bit_columns += 1;
                    Column::Bits(column)
                }
            });
        }
        let mut filling = Filling::new((0..bit_columns * WIDEST).map(|_| Meant::Levels));
        let by_columns = self.header.by_columns && elements.len() > 1 && !self.header.structured;
        let rows = match by_columns {
            true => self.by_columns(&elements, &mut columns, &mut filling)?,
            false => self.by_rows(&elements, &mut columns, &mut filling, progress)?,
        };
        let told =
            format!("{READ_AS}an array of {rows} rows and {} columns, {}", elements.len(), base.rate());
        let origin = Origin { source: format!("array {}", name.display()), ..Origin::default() };
        let mut builder = Capture::builder(base, rows).resolution(Resolution::SAMPLED).origin(origin);
        builder = builder.history(vec![told]);
        let traces: Vec<Arc<Trace>> = filling.finish(rows).into_iter().map(Arc::new).collect();
        let held = columns.iter().any(|column| matches!(column, Column::Volts(volts) if volts.has_gaps()));
        for (number, (column, element)) in columns.into_iter().zip(&elements).enumerate() {
            match column {
                Column::Bits(bits) => {
                    builder =
                        bits.add_to(builder, (&element.name, None), Input::Number(number as u32), &traces)?;
                }
                Column::Volts(volts) => {
                    let line =
                        AnalogLine { input: Some(number as u32), ..AnalogLine::named(element.name.as_str()) };
                    let trace = if held { volts.finish_held(rows)? } else { volts.finish() };
                    builder = builder.analog(line, trace);
                }
            }
        }
        if rows < self.header.rows {
            let remark =
                format!("the array says that it has {} rows, and ends after {rows}", self.header.rows);
            builder = builder.remark(remark);
        }
        builder.distinct_names().build().map_err(|e| e.at(Place::File(name.into())))
    }

    fn put(
        &self,
        column: &mut Column,
        element: &Element,
        bytes: &[u8],
        row: u64,
        filling: &mut Filling,
    ) -> Result<()> {
        match column {
            Column::Bits(bits) => {
                if element.kind == Kind::Signed && element.signed(bytes) < 0 {
                    bits.is_signed(8 * element.size as u32);
                }
                bits.put(filling, row, Word::number(element.bits(bytes)));
            }
            Column::Volts(volts) => {
                let value = element.float(bytes);
                if !volts.push_number(value) {
                    let message = format!("row {row} of '{}' is no voltage ({value:e})", element.name);
                    return Err(self
                        .source
                        .refused(message)
                        .with_help("scale it to volts before it is saved"));
                }
            }
        }
        Ok(())
    }

    fn by_rows(
        &self,
        elements: &[Element],
        columns: &mut [Column],
        filling: &mut Filling,
        progress: &mut dyn FnMut(u64, u64),
    ) -> Result<u64> {
        let size: usize = elements.iter().map(|element| element.size).sum();
        let mut reader = self.source.reader();
        let failed = |error, given| self.source.unreadable(error, given);
        skip(&mut reader, self.header.len as u64).map_err(|error| failed(error, 0))?;
        let (mut block, mut row) = (Vec::new(), 0);
        while row < self.header.rows {
            let wanted = (self.header.rows - row).min(((1 << 18) / size as u64).max(1)) as usize * size;
            block.clear();
            let read = reader.by_ref().take(wanted as u64).read_to_end(&mut block);
            let read = read.map_err(|error| failed(error, reader.given()))?;
            for bytes in block[..read].chunks_exact(size) {
                let mut at = 0;
                for (column, element) in columns.iter_mut().zip(elements) {
                    self.put(column, element, &bytes[at..at + element.size], row, filling)?;
                    at += element.size;
                }
                row += 1;
            }
            progress(reader.consumed(), self.source.len());
            if read < wanted {
                break;
            }
        }
        Ok(row)
    }

    fn by_columns(&self, elements: &[Element], columns: &mut [Column], filling: &mut Filling) -> Result<u64> {
        let mut reader = self.source.reader();
        let failed = |error, given| self.source.unreadable(error, given);
        skip(&mut reader, self.header.len as u64).map_err(|error| failed(error, 0))?;
        let mut cell = [0; 8];
        let mut reader = std::io::BufReader::with_capacity(1 << 18, reader);
        for (column, element) in columns.iter_mut().zip(elements) {
            for row in 0..self.header.rows {
                let bytes = &mut cell[..element.size];
                if let Err(error) = reader.read_exact(bytes) {
                    let cut = error.kind() == std::io::ErrorKind::UnexpectedEof;
                    return Err(match cut {
                        true => self.source.refused("this array ends too early").with_help("save it again"),
                        false => failed(error, 0),
                    });
                }
                self.put(column, element, bytes, row, filling)?;
            }
        }
        Ok(self.header.rows)
    }
}
