//! Sums and checksums of bytes.

use crc::{Algorithm, Crc, NoTable, Width};

use crate::error::{Error, ErrorKind, Result, suggest};

/// What proves a message.
///
/// The cyclic checks are those of the catalogue of parametrised CRC algorithms, by the names that they
/// have there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CheckKind(&'static Row);

/// A row of the table of checks.
#[derive(Debug)]
struct Row {
    name: &'static str,
    bytes: usize,
    compute: fn(&[u8]) -> u64,
}

impl PartialEq for Row {
    fn eq(&self, other: &Row) -> bool {
        self.name == other.name
    }
}

impl Eq for Row {}

macro_rules! cyclic {
    ($name:literal, $bytes:literal, $width:ty, $algorithm:ident) => {
        Row { name: $name, bytes: $bytes, compute: |bytes| cyclic::<$width>(&crc::$algorithm, bytes) }
    };
}

static TABLE: [Row; 23] = [
    Row { name: "sum", bytes: 1, compute: sum },
    // With it, all bytes together are zero.
    Row { name: "sum-negated", bytes: 1, compute: |bytes| sum(bytes).wrapping_neg() },
    Row { name: "sum-inverted", bytes: 1, compute: |bytes| !sum(bytes) },
    Row { name: "xor", bytes: 1, compute: |bytes| bytes.iter().fold(0, |all, byte| all ^ u64::from(*byte)) },
    cyclic!("crc-8/smbus", 1, u8, CRC_8_SMBUS),
    cyclic!("crc-8/maxim-dow", 1, u8, CRC_8_MAXIM_DOW),
    cyclic!("crc-8/nrsc-5", 1, u8, CRC_8_NRSC_5),
    cyclic!("crc-8/sae-j1850", 1, u8, CRC_8_SAE_J1850),
    cyclic!("crc-8/autosar", 1, u8, CRC_8_AUTOSAR),
    cyclic!("crc-8/rohc", 1, u8, CRC_8_ROHC),
    cyclic!("crc-16/arc", 2, u16, CRC_16_ARC),
    cyclic!("crc-16/modbus", 2, u16, CRC_16_MODBUS),
    cyclic!("crc-16/usb", 2, u16, CRC_16_USB),
    cyclic!("crc-16/xmodem", 2, u16, CRC_16_XMODEM),
    cyclic!("crc-16/ibm-3740", 2, u16, CRC_16_IBM_3740),
    cyclic!("crc-16/ibm-sdlc", 2, u16, CRC_16_IBM_SDLC),
    cyclic!("crc-16/kermit", 2, u16, CRC_16_KERMIT),
    cyclic!("crc-16/dnp", 2, u16, CRC_16_DNP),
    cyclic!("crc-32/iso-hdlc", 4, u32, CRC_32_ISO_HDLC),
    cyclic!("crc-32/bzip2", 4, u32, CRC_32_BZIP2),
    cyclic!("crc-32/iscsi", 4, u32, CRC_32_ISCSI),
    cyclic!("crc-32/mpeg-2", 4, u32, CRC_32_MPEG_2),
    cyclic!("crc-64/xz", 8, u64, CRC_64_XZ),
];

fn sum(bytes: &[u8]) -> u64 {
    bytes.iter().map(|byte| u64::from(*byte)).sum()
}

/// The widths that have an implementation without a table, which is large and takes time to build.
trait Cyclic: Width + Into<u64> {
    fn compute(algorithm: &'static Algorithm<Self>, bytes: &[u8]) -> Self;
}

macro_rules! widths {
    ($($width:ty),*) => {
        $(impl Cyclic for $width {
            fn compute(algorithm: &'static Algorithm<Self>, bytes: &[u8]) -> Self {
                Crc::<$width, NoTable>::new(algorithm).checksum(bytes)
            }
        })*
    };
}

widths!(u8, u16, u32, u64);

fn cyclic<W: Cyclic>(algorithm: &'static Algorithm<W>, bytes: &[u8]) -> u64 {
    W::compute(algorithm, bytes).into()
}

impl CheckKind {
    /// Of a name.
    ///
    /// ```
    /// use deep_tap_core::message::CheckKind;
    ///
    /// // The value that the catalogue gives for each of its algorithms is that of these nine characters.
    /// assert_eq!(CheckKind::named("crc-16/modbus")?.of(b"123456789"), 0x4b37);
    /// assert!(CheckKind::named("crc-16/modbuss").is_err());
    /// # Ok::<(), deep_tap_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// When there is none of this name.
    pub fn named(name: &str) -> Result<CheckKind> {
        TABLE.iter().find(|row| row.name == name).map(CheckKind).ok_or_else(|| {
            let names = TABLE.iter().map(|row| row.name);
            Error::new(ErrorKind::Unknown, format!("there is no checksum '{name}'"))
                .with_help(suggest(name, names, "checksum"))
        })
    }

    /// All of them.
    pub fn all() -> impl Iterator<Item = CheckKind> + Clone {
        TABLE.iter().map(CheckKind)
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        self.0.name
    }

    /// How many bytes it has, unless another number is stated.
    pub fn bytes(self) -> usize {
        self.0.bytes
    }

    /// That of these bytes, its lowest byte lowest; a sum has as many bits as are asked of it.
    pub fn of(self, bytes: &[u8]) -> u64 {
        (self.0.compute)(bytes)
    }
}
