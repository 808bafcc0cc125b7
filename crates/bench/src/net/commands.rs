//! The command set: every header that the server knows, with where it comes from.

use super::message::{Unit, matches};

/// What a header stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Command {
    Abort,
    AnalogEvery,
    AnalogRange,
    AnalogScan,
    Border,
    Capabilities,
    Clear,
    Condition(Group),
    Description,
    Enable(Group),
    ErrorAll,
    ErrorCount,
    ErrorNext,
    Event(Group),
    EventStatus,
    EventStatusEnable,
    Format,
    Identity,
    Initiate,
    OperationComplete,
    Points,
    PreTrigger,
    Preset,
    Progress,
    Protocol,
    Qualifier,
    Rate,
    Remarks,
    Reset,
    Scan,
    SelfTest,
    SourceBytes,
    SourceDuty,
    SourceFrequency,
    SourceFunction,
    SourceLength,
    SourceOutput,
    SourceStart,
    ServiceEnable,
    Slope,
    Source,
    StatusByte,
    Stream,
    Interval,
    Threshold,
    TraceCatalog,
    TraceData,
    TracePoints,
    Version,
    Wait,
}

/// A pair of status registers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Group {
    Operation,
    Questionable,
}

/// Where a command comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Standard {
    /// IEEE 488.2-1992, a common command.
    Ieee488,
    /// SCPI-1999, volume 2.
    Scpi,
    /// This instrument's own, where no standard command says it.
    Own,
}

/// The forms a command has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Form {
    Set,
    Query,
    Both,
}

pub(super) struct Row {
    /// The header: capitals are the short form, parts in brackets may be left out, `<n>` is a suffix.
    pub(super) header: &'static str,
    pub(super) form: Form,
    /// Parameters and answer, for the reference.
    pub(super) says: &'static str,
    pub(super) standard: Standard,
    pub(super) command: Command,
}

const fn row(
    header: &'static str,
    form: Form,
    standard: Standard,
    command: Command,
    says: &'static str,
) -> Row {
    Row { header, form, says, standard, command }
}

use Command as C;
use Form::{Both, Query, Set};
use Group::{Operation, Questionable};
use Standard::{Ieee488, Own, Scpi};

/// Every command, in the order of the reference.
pub(super) const COMMANDS: &[Row] = &[
    row("*CLS", Set, Ieee488, C::Clear, "clears the error queue and all event registers"),
    row("*ESE", Both, Ieee488, C::EventStatusEnable, "mask of the event status register, 0 to 255"),
    row("*ESR", Query, Ieee488, C::EventStatus, "the event status register, which is cleared by reading"),
    row("*IDN", Query, Ieee488, C::Identity, "maker, model, serial number, version"),
    row(
        "*OPC",
        Both,
        Ieee488,
        C::OperationComplete,
        "`*OPC` sets bit 0 of the event status register when the recording is over; `*OPC?` answers 1 then",
    ),
    row("*RST", Set, Ieee488, C::Reset, "back to the settings at power-on; a recording is stopped"),
    row("*SRE", Both, Ieee488, C::ServiceEnable, "mask of the status byte, 0 to 255"),
    row("*STB", Query, Ieee488, C::StatusByte, "the status byte"),
    row("*TST", Query, Ieee488, C::SelfTest, "0: nothing is wrong"),
    row("*WAI", Set, Ieee488, C::Wait, "the next command waits until the recording is over"),
    row("ABORt", Set, Scpi, C::Abort, "stops waiting or recording; what was recorded can be read"),
    row("FORMat:BORDer", Both, Scpi, C::Border, "`SWAPped` (the lowest byte first, at power-on) or `NORMal`"),
    row("FORMat[:DATA]", Query, Scpi, C::Format, "`UINT` and the bits of a sample: 8, 16, 32 or 64"),
    row(
        "INITiate[:IMMediate]",
        Set,
        Scpi,
        C::Initiate,
        "starts waiting for the trigger, or recording if there is none",
    ),
    row(
        "INPut<n>:THReshold",
        Both,
        Own,
        C::Threshold,
        "the voltage that parts low from high on input n; `DEFault` for the instrument's own",
    ),
    row("INSTrument:CAPabilities", Query, Own, C::Capabilities, "a block with what it can do, as JSON"),
    row("INSTrument:DESCription", Query, Own, C::Description, "what it is and is connected to, as a string"),
    row("INSTrument:PROTocol", Query, Own, C::Protocol, "the version of this command set: 1"),
    row(
        "ROUTe:SCAN",
        Both,
        Scpi,
        C::Scan,
        "the inputs to record, `(@0:7,9)`: the n-th is bit n of a sample; or names of signals in quotes",
    ),
    row("SENSe:ANALog:EVERy", Both, Own, C::AnalogEvery, "samples from one analog sample to the next"),
    row("SENSe:ANALog:RANGe<n>", Both, Own, C::AnalogRange, "lowest and highest voltage of analog input n"),
    row("SENSe:ANALog:SCAN", Both, Own, C::AnalogScan, "the analog inputs to record, `(@0,1)`"),
    row(
        "SENSe:SWEep:OREFerence:POINts",
        Both,
        Scpi,
        C::PreTrigger,
        "samples to keep from before the trigger",
    ),
    row("SENSe:SWEep:POINts", Both, Scpi, C::Points, "samples to record, those before the trigger included"),
    row(
        "SENSe:SWEep:PROGress",
        Query,
        Own,
        C::Progress,
        "`IDLE`; `WAIT` or `OVER` with the time waited as a string, edges seen, and how often each level was not met; `REC` with samples done and asked for; `DONE` with samples and the trigger's number or -1",
    ),
    row(
        "SENSe:SWEep:RATE",
        Both,
        Own,
        C::Rate,
        "samples per second, or such a fraction as a string: `\"100000000/3\"`",
    ),
    row("SENSe:SWEep:STReam", Both, Own, C::Stream, "1 to send samples while they are taken, until stopped"),
    row(
        "SENSe:SWEep:TINTerval",
        Both,
        Scpi,
        C::Interval,
        "time from one sample to the next in seconds, or with a suffix: `10NS`; the nearest rate there is, within 1 ppm",
    ),
    row("SOURce<n>:DATA", Both, Own, C::SourceBytes, "the bytes of stimulus n, numbers from 0 to 255"),
    row(
        "SOURce<n>:FREQuency",
        Both,
        Scpi,
        C::SourceFrequency,
        "pulses or bits per second, or a fraction as a string",
    ),
    row(
        "SOURce<n>:FUNCtion",
        Both,
        Scpi,
        C::SourceFunction,
        "`NONE`, `PULSe` or `DATA`: what stimulus n sends, counted from 0",
    ),
    row(
        "SOURce<n>:LENGth",
        Both,
        Own,
        C::SourceLength,
        "for how long pulses are sent, in seconds, or a fraction as a string; 0 until the recording ends",
    ),
    row("SOURce<n>:OUTPut", Both, Own, C::SourceOutput, "the output that stimulus n is sent on"),
    row(
        "SOURce<n>:PULSe:DCYCle",
        Both,
        Scpi,
        C::SourceDuty,
        "high time of the pulses in percent, or the share of one as a string",
    ),
    row(
        "SOURce<n>:STARt",
        Both,
        Own,
        C::SourceStart,
        "`ARM` or `TRIGger` and the seconds from then on, or a fraction as a string",
    ),
    row(
        "STATus:OPERation:CONDition",
        Query,
        Scpi,
        C::Condition(Operation),
        "bit 3: recording; bit 5: waiting for the trigger",
    ),
    row("STATus:OPERation:ENABle", Both, Scpi, C::Enable(Operation), "mask of the operation register"),
    row(
        "STATus:OPERation[:EVENt]",
        Query,
        Scpi,
        C::Event(Operation),
        "which of these bits were set since it was last read",
    ),
    row("STATus:PRESet", Set, Scpi, C::Preset, "clears the masks of both registers"),
    row(
        "STATus:QUEStionable:CONDition",
        Query,
        Scpi,
        C::Condition(Questionable),
        "0: nothing is questionable",
    ),
    row(
        "STATus:QUEStionable:ENABle",
        Both,
        Scpi,
        C::Enable(Questionable),
        "mask of the questionable register",
    ),
    row("STATus:QUEStionable[:EVENt]", Query, Scpi, C::Event(Questionable), "0"),
    row(
        "SYSTem:ERRor:ALL",
        Query,
        Scpi,
        C::ErrorAll,
        "all errors, the oldest first, which are taken out of the queue; `0,\"No error\"`",
    ),
    row("SYSTem:ERRor:COUNt", Query, Scpi, C::ErrorCount, "errors in the queue"),
    row(
        "SYSTem:ERRor[:NEXT]",
        Query,
        Scpi,
        C::ErrorNext,
        "the oldest error, which is taken out of the queue: number and words; `0,\"No error\"`",
    ),
    row(
        "SYSTem:REMarks",
        Query,
        Own,
        C::Remarks,
        "what the user should know about the last recording, strings",
    ),
    row("SYSTem:VERSion", Query, Scpi, C::Version, "1999.0"),
    row("TRACe:CATalog", Query, Scpi, C::TraceCatalog, "the names for `TRACe:DATA?`, strings"),
    row(
        "TRACe[:DATA]",
        Query,
        Scpi,
        C::TraceData,
        "`LEVels`: a block with the samples after those read before, empty at the end (of what has arrived, when it streams). Then, about the same samples: `UNKNown`, a block with a one for each input whose level is not known, empty when all are known; `ANALog<n>`: the number of the sample that the first code was taken with, samples from one code to the next, and a block of signed 16-bit codes",
    ),
    row("TRACe:POINts", Both, Scpi, C::TracePoints, "`LEVels` and the most samples in one block"),
    row(
        "TRIGger[:SEQuence]:QUALifier",
        Both,
        Own,
        C::Qualifier,
        "inputs and the levels they must have at the edge: `3,1,4,0`; none to ask for nothing",
    ),
    row("TRIGger[:SEQuence]:SLOPe", Both, Scpi, C::Slope, "`POSitive`, `NEGative` or `EITHer`"),
    row(
        "TRIGger[:SEQuence]:SOURce",
        Both,
        Scpi,
        C::Source,
        "`IMMediate` to record at once, or `INTernal<n>` to wait for an edge of input n",
    ),
];

/// The command of a unit, and the suffix of the mnemonic that has one.
pub(super) fn find(unit: &Unit<'_>) -> Option<(&'static Row, u32)> {
    COMMANDS.iter().find_map(|row| {
        let allowed = match row.form {
            Form::Both => true,
            Form::Query => unit.query,
            Form::Set => !unit.query,
        };
        suffix(row.header, unit).filter(|_| allowed).map(|suffix| (row, suffix))
    })
}

/// Whether a unit has this header; the suffix where the header has room for one.
fn suffix(header: &str, unit: &Unit<'_>) -> Option<u32> {
    let mut given = unit.path.iter().zip(&unit.suffixes).peekable();
    let mut found = 0;
    for part in header.replace("[:", ":[").split(':') {
        let optional = part.starts_with('[');
        let keyword = part.trim_matches(['[', ']']);
        let (keyword, numbered) =
            keyword.strip_suffix("<n>").map_or((keyword, false), |keyword| (keyword, true));
        let fits =
            given.peek().is_some_and(|(word, number)| matches(word, keyword) && (numbered || **number == 0));
        if fits {
            let (_, number) = given.next()?;
            if numbered {
                found = *number;
            }
        } else if !optional {
            return None;
        }
    }
    given.next().is_none().then_some(found)
}

/// The command reference as a table, for the documentation.
pub fn command_table() -> String {
    let mut table = "| command | from | what it says |\n|---|---|---|\n".to_string();
    for row in COMMANDS {
        let from = match row.standard {
            Standard::Ieee488 => "IEEE 488.2",
            Standard::Scpi => "SCPI-1999",
            Standard::Own => "own",
        };
        let header = match row.form {
            Form::Set => format!("`{}`", row.header),
            Form::Query => format!("`{}?`", row.header),
            Form::Both => format!("`{0}`, `{0}?`", row.header),
        };
        table.push_str(&format!("| {header} | {from} | {} |\n", row.says.replace('|', "\\|")));
    }
    table
}
