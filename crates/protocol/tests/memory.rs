//! What each parser of foreign bytes takes of memory: at most eight times what it read and 1 MiB.
//! One test alone, as the allocator counts what all threads take.
// A test that cannot go on has failed: that is what unwrap says.
#![allow(clippy::unwrap_used)]

use mostra_protocol::control_point::{
    protocol_info, read_answer, read_description, read_last_change, read_properties,
};
use mostra_protocol::model::xml::{self, Limits, XmlError};
use mostra_protocol::model::{charset, didl, search, service};
use mostra_protocol::server::read_call;
use peak_alloc::PeakAlloc;

#[global_allocator]
static ALLOCATOR: PeakAlloc = PeakAlloc;

type Parser = (&'static str, usize, fn(&str));

/// Each parser with its own limit of bytes.
const PARSERS: [Parser; 9] = [
    ("description", 512 << 10, |text| drop(read_description(text))),
    ("service document", 512 << 10, |text| drop(service::read(text))),
    ("call", 256 << 10, |text| drop(read_call(text))),
    ("answer", 1 << 20, |text| drop(read_answer(text))),
    ("DIDL-Lite", 1 << 20, |text| drop(didl::read(text))),
    ("event", 64 << 10, |text| drop(read_properties(text))),
    ("LastChange", 64 << 10, |text| drop(read_last_change(text))),
    ("protocolInfo", 256 << 10, |text| drop(protocol_info::read_list(text))),
    ("criteria", 4 << 10, |text| drop(search::parse(text))),
];

/// A document of about this many bytes: what stands around, and what is inside again and again.
fn filled(bytes: usize, before: &str, inside: &str, after: &str) -> String {
    let times = bytes.saturating_sub(before.len() + after.len()) / inside.len();
    format!("{before}{}{after}", inside.repeat(times))
}

/// Documents of which little makes much: names that are inherited, elements and attributes without
/// anything in them, lists in lists, references.
fn costly(bytes: usize) -> Vec<String> {
    let long = format!("<root xmlns=\"{}\"><device>", "A".repeat(bytes * 2 / 5));
    let declarations: String = (0..60).map(|n| format!(" xmlns:p{n}='urn:{n}'")).collect();
    let attributes: String = (0..60).map(|n| format!(" a{n}=''")).collect();
    let sparse = |around: (&str, &str), inside: &str| {
        let pad = 64_usize.saturating_sub(inside.len());
        filled(bytes, around.0, &format!("{inside}{}", " ".repeat(pad)), around.1)
    };
    let soap =
        "<s:Envelope xmlns:s='http://schemas.xmlsoap.org/soap/envelope/'><s:Body><u:A xmlns:u='u'>";
    let soap = (soap, "</u:A></s:Body></s:Envelope>");
    let items =
        ("<DIDL-Lite xmlns='urn:schemas-upnp-org:metadata-1-0/DIDL-Lite/'>", "</DIDL-Lite>");
    let actions = ("<scpd><actionList>", "</actionList></scpd>");
    let argument =
        "<action><name>a</name><argumentList><argument/><argument/></argumentList></action>";
    let values = (
        "<scpd><actionList/><serviceStateTable><stateVariable><name>a</name><allowedValueList>",
        "</allowedValueList></stateVariable></serviceStateTable></scpd>",
    );
    let events = ("<e:propertyset xmlns:e='e'><e:property>", "</e:property></e:propertyset>");
    let last = ("<Event><InstanceID val='0'>", "</InstanceID></Event>");
    let mut all = vec![
        filled(bytes, &long, "<a/>", "</device></root>"),
        filled(bytes, "<root><device>", "<a/>", "</device></root>"),
        filled(bytes, &format!("<root{declarations}>"), &format!("<a{declarations}/>"), "</root>"),
        filled(bytes, "<root>", &format!("<a{attributes}/>"), "</root>"),
        filled(bytes, "<root", " xmlns:a=''", "/>"),
        filled(bytes, "<root>", "<a>", ""),
        filled(bytes, "<root>", "&amp;", "</root>"),
        filled(bytes, "<root a='", "&#65;", "'/>"),
        filled(bytes, "<root>", "<![CDATA[]]>", "</root>"),
        sparse(("<root>", "</root>"), "<a><b c='' d=''/></a>"),
        sparse(soap, "<a>b</a>"),
        sparse(soap, "<ab c=''>b</ab>"),
        sparse(items, "<item id='1'><res size='2' protocolInfo=''/></item>"),
        sparse(items, "<item/>"),
        sparse(actions, argument),
        sparse(actions, "<action><name>a</name></action>"),
        sparse(values, "<allowedValue>1</allowedValue>"),
        sparse(events, "<a>1</a>"),
        sparse(last, "<Volume val='1' channel='a'/>"),
        filled(bytes, "", "a:b:c:d,", ""),
        filled(bytes, "", ":::,", ""),
        filled(bytes, "", "(", ""),
        filled(bytes, "", "dc:title = \"\" or ", "dc:title = \"\""),
    ];
    // Whatever is sparse enough to be read comes as densely as the limits allow, too.
    for (from, to) in [soap, items, events, last, values, actions] {
        all.push(filled(bytes.min(20_000), from, "<a/>", to));
    }
    all
}

#[test]
fn no_parser_takes_more_than_eight_times_what_it_read() {
    for (name, limit, parse) in PARSERS {
        for share in [8, 1] {
            for text in costly(limit / share) {
                let before = ALLOCATOR.current_usage();
                ALLOCATOR.reset_peak_usage();
                parse(&text);
                let taken = ALLOCATOR.peak_usage().saturating_sub(before);
                let allowed = 8 * text.len() + (1 << 20);
                let begin: String = text.chars().take(80).collect();
                assert!(taken <= allowed, "{name}: {taken} of {allowed} bytes for {begin}");
            }
        }
    }
    let all = costly(20_000);
    let refused =
        all.iter().filter(|text| xml::read(text, Limits::DOCUMENT) == Err(XmlError::Limit));
    assert!(refused.count() >= 5, "documents reach the limits");
    // What is decoded first.
    let bytes = vec![0x80_u8; 256 << 10];
    let before = ALLOCATOR.current_usage();
    ALLOCATOR.reset_peak_usage();
    drop(charset::decode(Some("text/xml; charset=windows-1252"), &bytes));
    assert!(ALLOCATOR.peak_usage() - before <= 8 * bytes.len() + (1 << 20));
}
