//! The example messages of the protocol requirements, replayed or compared byte for byte
//! (CONF-4); between tags, blanks do not count.
// A test that cannot go on has failed: that is what unwrap says.
#![allow(clippy::unwrap_used)]

use std::net::{Ipv4Addr, SocketAddrV4};
use std::time::Duration;

use mostra_protocol::Moment;
use mostra_protocol::model::didl::{DocumentWriter, Head, HeadNode, ResourceElement};
use mostra_protocol::model::dlna::{FLAGS_FILE, ProtocolInfo};
use mostra_protocol::model::service::content_directory::Action;
use mostra_protocol::model::service::{OwnService, ServiceAction as _};
use mostra_protocol::model::xml_writer::Layer;
use mostra_protocol::server::content_directory::{Browse, BrowseFlag, Leniency};
use mostra_protocol::server::description::{self, Description, Edition};
use mostra_protocol::server::{
    Announcer, Asked, Datagram, DatagramEvent, Fault, Identity, Link, Tuning, Value, callbacks,
    read_call, read_timeout, write_answer, write_properties,
};

const SERVER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 21);
const PLAYER: SocketAddrV4 = SocketAddrV4::new(Ipv4Addr::new(192, 0, 2, 60), 50_000);
/// 1 January 2026, 00:00:00.
const START: Moment = Moment::from_secs(1_767_225_600);
const UDN: &str = "uuid:6f1c2f0e-5b7d-4d0a-9a3e-2b8c41d7e901";

/// Text as it goes over the wire: lines end in CRLF.
fn wire(text: &str) -> String {
    text.replace('\n', "\r\n")
}

/// A document without the blanks between its tags.
fn tight(text: &str) -> String {
    let mut text = text.replace('\n', "");
    for (open, close) in [("&gt; ", "&gt;"), ("> ", ">")] {
        text = text.replace(open, close);
    }
    text
}

fn announcer() -> Announcer {
    let identity = Identity {
        udn: UDN.into(),
        server: "Linux/6.1 UPnP/1.0 Mostra/0.1".into(),
        description_path: "/self/device.xml".into(),
        boot_id: 1_767_225_600,
        config_id: 4021,
        services: vec![OwnService::ContentDirectory, OwnService::ConnectionManager],
    };
    let mut machine = Announcer::new(identity, Tuning::default(), 7, START);
    let link = Link { id: 1, address: SERVER, prefix: 24, port: 7640, search_port: None };
    machine.link_up(START, link);
    machine
}

/// All that is sent until a moment.
fn sent(machine: &mut Announcer, until: Moment) -> Vec<Datagram> {
    let mut all = Vec::new();
    while let Some(at) = machine.next_deadline().filter(|at| *at <= until) {
        all.extend(machine.poll_output(at));
    }
    all
}

const SEARCH: &str = r#"M-SEARCH * HTTP/1.1
HOST: 239.255.255.250:1900
MAN: "ssdp:discover"
MX: 2
ST: urn:schemas-upnp-org:device:MediaServer:1
USER-AGENT: ExampleOS/1.0 UPnP/1.0 ExamplePlayer/1.0

"#;

#[test]
fn announcing_and_answering_are_as_in_the_examples() {
    let mut machine = announcer();
    let all = sent(&mut machine, START + Duration::from_secs(5));
    let alive = wire(&format!(
        "NOTIFY * HTTP/1.1
HOST: 239.255.255.250:1900
CACHE-CONTROL: max-age=1800
LOCATION: http://192.0.2.21:7640/self/device.xml
NT: urn:schemas-upnp-org:device:MediaServer:1
NTS: ssdp:alive
SERVER: Linux/6.1 UPnP/1.0 Mostra/0.1
USN: {UDN}::urn:schemas-upnp-org:device:MediaServer:1
BOOTID.UPNP.ORG: 1767225600
CONFIGID.UPNP.ORG: 4021

"
    ));
    assert_eq!(all.iter().filter(|d| d.data == alive.as_bytes()).count(), 2);

    let at = START + Duration::from_secs(7);
    let heard = machine.handle(at, 1, PLAYER, true, wire(SEARCH).as_bytes()).unwrap();
    let agent = Some("ExampleOS/1.0 UPnP/1.0 ExamplePlayer/1.0".to_owned());
    let target = "urn:schemas-upnp-org:device:MediaServer:1".to_owned();
    assert_eq!(heard, DatagramEvent::Search { target, user_agent: agent, answered: true });
    let answers = sent(&mut machine, at + Duration::from_secs(2));
    assert_eq!(answers.len(), 1);
    let answer = String::from_utf8(answers[0].data.clone()).unwrap();
    assert_eq!(answers[0].to, PLAYER);
    // It goes out at a time that chance decides.
    let date = answer.lines().find(|l| l.starts_with("DATE: ")).unwrap();
    let dates = [7, 8].map(|s| format!("DATE: Thu, 01 Jan 2026 00:00:0{s} GMT"));
    assert!(dates.iter().any(|d| d == date), "{date}");
    let expected = wire(&format!(
        "HTTP/1.1 200 OK
CACHE-CONTROL: max-age=1800
{date}
EXT:
LOCATION: http://192.0.2.21:7640/self/device.xml
SERVER: Linux/6.1 UPnP/1.0 Mostra/0.1
ST: urn:schemas-upnp-org:device:MediaServer:1
USN: {UDN}::urn:schemas-upnp-org:device:MediaServer:1
BOOTID.UPNP.ORG: 1767225600
CONFIGID.UPNP.ORG: 4021

"
    ));
    assert_eq!(answer, expected);
}

#[test]
fn a_version_asked_is_the_version_answered() {
    // Only version 1 exists, so that no lower one can be asked; a higher one is not ours.
    let mut machine = announcer();
    sent(&mut machine, START + Duration::from_secs(5));
    for (version, answers) in [("1", 1), ("2", 0), ("0", 0), ("x", 0)] {
        let asked = format!("urn:schemas-upnp-org:service:ContentDirectory:{version}");
        let search = SEARCH.replace("urn:schemas-upnp-org:device:MediaServer:1", &asked);
        let at = START + Duration::from_secs(10);
        machine.handle(at, 1, PLAYER, true, wire(&search).as_bytes());
        let all = sent(&mut machine, at + Duration::from_secs(3));
        assert_eq!(all.len(), answers, "{version}");
        for answer in all {
            let text = String::from_utf8(answer.data).unwrap();
            assert!(text.contains(&format!("\r\nST: {asked}\r\nUSN: {UDN}::{asked}\r\n")));
        }
    }
}

#[test]
fn the_port_for_unicast_searches_is_on_every_message() {
    let mut machine = announcer();
    let link = Link { id: 1, address: SERVER, prefix: 24, port: 7640, search_port: Some(50_001) };
    machine.link_up(START, link);
    let search = wire(SEARCH);
    machine.handle(START, 1, PLAYER, false, search.as_bytes());
    let mut all = sent(&mut machine, START + Duration::from_secs(5));
    machine.stop(START + Duration::from_secs(6));
    all.extend(sent(&mut machine, START + Duration::from_secs(9)));
    assert!(all.len() > 20);
    for datagram in all {
        let text = String::from_utf8(datagram.data).unwrap();
        assert!(text.contains("\r\nSEARCHPORT.UPNP.ORG: 50001\r\n"), "{text}");
    }
}

#[test]
fn the_description_is_as_in_the_example() {
    let description = Description {
        friendly_name: "Pellworth Light".into(),
        udn: UDN.into(),
        model_name: "Mostra".into(),
        model_number: "0.1".into(),
        edition: Edition::V1_0,
        services: vec![OwnService::ContentDirectory, OwnService::ConnectionManager],
    };
    let mut written = description.write();
    // Paths are samples.
    for (icon, (file, _, _)) in
        ["i120.png", "i120.jpg", "i48.png", "i48.jpg"].iter().zip(description::ICONS)
    {
        written = written.replace(&format!("/about/{file}"), &format!("/self/{icon}"));
    }
    for (service, short) in
        [(OwnService::ContentDirectory, "cds"), (OwnService::ConnectionManager, "cm")]
    {
        written = written
            .replace(&description::document_path(service), &format!("/self/{short}.xml"))
            .replace(&description::control_path(service), &format!("/act/{short}"))
            .replace(&description::event_path(service), &format!("/sub/{short}"));
    }
    assert_eq!(tight(&written), tight(DESCRIPTION));
}

#[test]
fn a_browse_is_read_and_answered_as_in_the_examples() {
    let call = read_call(BROWSE).unwrap();
    let browse = Browse::read(&call, Leniency::Standard).unwrap();
    assert_eq!((browse.object.as_str(), browse.flag), ("c7Hd2", BrowseFlag::DirectChildren));
    assert_eq!((browse.start, browse.count, browse.sort.len()), (0, 2, 1));
    let base = "http://192.0.2.21:7640";
    let mut document = DocumentWriter::new(&browse.filter, Layer::Nested, 2, usize::MAX);
    let directory = Head {
        id: "c9Pa4",
        parent: "c7Hd2",
        title: "Harbour days",
        class: "object.container.storageFolder",
        node: HeadNode::Container { child_count: 12, searchable: true },
    };
    document.object(directory, |object| object.required("upnp:storageUsed", None, "-1"));
    let film = Head {
        id: "k7Qm2v",
        parent: "c7Hd2",
        title: "Salt & Rope",
        class: "object.item.videoItem",
        node: HeadNode::Item { reference: None },
    };
    document.object(film, |object| {
        object.property("dc:date", "2024-09-23");
        object.art([base, "/art/", "k7Qm2v", ".jpg", ""], "JPEG_TN");
        let info = ProtocolInfo {
            mime: "video/mp4".into(),
            profile: Some("AVC_MP4_MP_SD_AAC_MULT5"),
            seek: mostra_protocol::model::dlna::Seek::BYTES,
            converted: false,
            flags: FLAGS_FILE,
            any: false,
        };
        object.resource(&ResourceElement {
            size: Some(734_003_200),
            duration_ms: Some(2_472_480),
            bytes_per_second: Some(300_000),
            resolution: Some((720, 576)),
            ..ResourceElement::bare([base, "/media/", "k7Qm2v", ".", "mp4"], info)
        });
    });
    let (result, _) = document.finish();
    let values = [Value::Nested(result), "2".into(), "17".into(), "46".into()];
    let answer = write_answer(&call, Action::Browse.row(), &values);
    assert_eq!(tight(&answer), tight(ANSWER));
}

#[test]
fn a_fault_is_as_in_the_example() {
    assert_eq!(Fault::NoSuchObject.write(), FAULT);
    assert_eq!(FAULT.len(), 447, "the Content-Length of the example");
}

#[test]
fn a_subscription_and_its_event_are_as_in_the_examples() {
    let callback = "<http://192.0.2.60:50871/ev/3>";
    let asked = Asked::read(None, Some("upnp:event"), Some(callback)).unwrap();
    assert_eq!(asked, Asked::New { callback: callback.into() });
    let there = SocketAddrV4::new(*PLAYER.ip(), 50_871);
    assert_eq!(callbacks(callback, *PLAYER.ip(), &[]), [(there, "/ev/3".to_owned())]);
    assert_eq!(read_timeout(Some("Second-1800")), Duration::from_secs(1800));
    let variables = [("SystemUpdateID", "46"), ("ContainerUpdateIDs", ""), ("TransferIDs", "")];
    let variables = variables.map(|(name, value)| (name.to_owned(), value.to_owned()));
    assert_eq!(write_properties(&variables), EVENT);
    assert_eq!(EVENT.len(), 293, "the Content-Length of the example");
}

const DESCRIPTION: &str = r#"<?xml version="1.0" encoding="utf-8"?>
<root xmlns="urn:schemas-upnp-org:device-1-0">
<specVersion><major>1</major><minor>0</minor></specVersion>
<device>
<deviceType>urn:schemas-upnp-org:device:MediaServer:1</deviceType>
<friendlyName>Pellworth Light</friendlyName>
<manufacturer>Mostra project</manufacturer>
<modelDescription>Media for the house</modelDescription>
<modelName>Mostra</modelName><modelNumber>0.1</modelNumber>
<UDN>uuid:6f1c2f0e-5b7d-4d0a-9a3e-2b8c41d7e901</UDN>
<dlna:X_DLNADOC xmlns:dlna="urn:schemas-dlna-org:device-1-0">DMS-1.50</dlna:X_DLNADOC>
<iconList>
<icon><mimetype>image/png</mimetype><width>120</width><height>120</height><depth>24</depth><url>/self/i120.png</url></icon>
<icon><mimetype>image/jpeg</mimetype><width>120</width><height>120</height><depth>24</depth><url>/self/i120.jpg</url></icon>
<icon><mimetype>image/png</mimetype><width>48</width><height>48</height><depth>24</depth><url>/self/i48.png</url></icon>
<icon><mimetype>image/jpeg</mimetype><width>48</width><height>48</height><depth>24</depth><url>/self/i48.jpg</url></icon>
</iconList>
<serviceList>
<service><serviceType>urn:schemas-upnp-org:service:ContentDirectory:1</serviceType><serviceId>urn:upnp-org:serviceId:ContentDirectory</serviceId>
<SCPDURL>/self/cds.xml</SCPDURL><controlURL>/act/cds</controlURL><eventSubURL>/sub/cds</eventSubURL></service>
<service><serviceType>urn:schemas-upnp-org:service:ConnectionManager:1</serviceType><serviceId>urn:upnp-org:serviceId:ConnectionManager</serviceId>
<SCPDURL>/self/cm.xml</SCPDURL><controlURL>/act/cm</controlURL><eventSubURL>/sub/cm</eventSubURL></service>
</serviceList>
<presentationURL>/</presentationURL>
</device>
</root>"#;

const BROWSE: &str = r#"<?xml version="1.0" encoding="utf-8"?>
<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/" s:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/">
<s:Body>
<u:Browse xmlns:u="urn:schemas-upnp-org:service:ContentDirectory:1">
<ObjectID>c7Hd2</ObjectID><BrowseFlag>BrowseDirectChildren</BrowseFlag>
<Filter>dc:title,upnp:albumArtURI,res,res@size,res@duration</Filter>
<StartingIndex>0</StartingIndex><RequestedCount>2</RequestedCount><SortCriteria>+dc:title</SortCriteria>
</u:Browse>
</s:Body></s:Envelope>"#;

const ANSWER: &str = r#"<?xml version="1.0" encoding="utf-8"?>
<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/" s:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/">
<s:Body>
<u:BrowseResponse xmlns:u="urn:schemas-upnp-org:service:ContentDirectory:1">
<Result>&lt;DIDL-Lite xmlns=&quot;urn:schemas-upnp-org:metadata-1-0/DIDL-Lite/&quot; xmlns:dc=&quot;http://purl.org/dc/elements/1.1/&quot; xmlns:upnp=&quot;urn:schemas-upnp-org:metadata-1-0/upnp/&quot; xmlns:dlna=&quot;urn:schemas-dlna-org:metadata-1-0/&quot;&gt;
&lt;container id=&quot;c9Pa4&quot; parentID=&quot;c7Hd2&quot; restricted=&quot;1&quot;&gt;&lt;dc:title&gt;Harbour days&lt;/dc:title&gt;&lt;upnp:class&gt;object.container.storageFolder&lt;/upnp:class&gt;&lt;upnp:storageUsed&gt;-1&lt;/upnp:storageUsed&gt;&lt;/container&gt;
&lt;item id=&quot;k7Qm2v&quot; parentID=&quot;c7Hd2&quot; restricted=&quot;1&quot;&gt;&lt;dc:title&gt;Salt &amp;amp; Rope&lt;/dc:title&gt;&lt;upnp:class&gt;object.item.videoItem&lt;/upnp:class&gt;
&lt;upnp:albumArtURI dlna:profileID=&quot;JPEG_TN&quot;&gt;http://192.0.2.21:7640/art/k7Qm2v.jpg&lt;/upnp:albumArtURI&gt;
&lt;res protocolInfo=&quot;http-get:*:video/mp4:DLNA.ORG_PN=AVC_MP4_MP_SD_AAC_MULT5;DLNA.ORG_OP=01;DLNA.ORG_CI=0;DLNA.ORG_FLAGS=01700000000000000000000000000000&quot; size=&quot;734003200&quot; duration=&quot;0:41:12.480&quot;&gt;http://192.0.2.21:7640/media/k7Qm2v.mp4&lt;/res&gt;
&lt;/item&gt;
&lt;/DIDL-Lite&gt;</Result>
<NumberReturned>2</NumberReturned><TotalMatches>17</TotalMatches><UpdateID>46</UpdateID>
</u:BrowseResponse>
</s:Body></s:Envelope>"#;

const FAULT: &str = r#"<?xml version="1.0" encoding="utf-8"?>
<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/" s:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/">
<s:Body>
<s:Fault>
<faultcode>s:Client</faultcode><faultstring>UPnPError</faultstring>
<detail>
<UPnPError xmlns="urn:schemas-upnp-org:control-1-0">
<errorCode>701</errorCode><errorDescription>No such object</errorDescription>
</UPnPError>
</detail>
</s:Fault>
</s:Body></s:Envelope>"#;

const EVENT: &str = r#"<?xml version="1.0" encoding="utf-8"?>
<e:propertyset xmlns:e="urn:schemas-upnp-org:event-1-0">
<e:property><SystemUpdateID>46</SystemUpdateID></e:property>
<e:property><ContainerUpdateIDs></ContainerUpdateIDs></e:property>
<e:property><TransferIDs></TransferIDs></e:property>
</e:propertyset>"#;
