//! From first start to 'the television has played, the disc player got nothing'.

use mostra_tests::browser::Browser;
use mostra_tests::{DISC_PLAYER, PASSWORD, TELEVISION, in_a_house, raw, top};

fn in_browser(test: impl AsyncFnOnce()) {
    tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .expect("a runtime")
        .block_on(test());
}

#[test]
fn from_first_start_to_played() {
    in_a_house(|house| {
        let mut service = house.start();
        let _stand_ins = house.stand_ins(&["lounge-television", "cottage-disc-player"]);
        let code = house.first_code();
        in_browser(async || {
            let browser = Browser::open().await;
            browser.size(1280, 800).await;
            browser.go("/").await;
            browser.sees("This house is new. Make its first account.").await;
            browser.fill("Code of the first account", &code).await;
            browser.fill("Password", PASSWORD).await;
            browser.fill("Password again", PASSWORD).await;
            browser.press("Begin").await;

            browser.sees("What is this house called?").await;
            browser.fill("Name", "Pellworth Light").await;
            browser.press("Go on").await;

            browser.sees("Where are the files?").await;
            let media = top().join("demo/media");
            browser.fill("Folder on the host", media.to_str().unwrap()).await;
            browser.press("Go").await;
            browser.press("Publish Films").await;
            browser.press("Publish").await;
            browser.sees("Published: Films.").await;
            browser.press("Go on").await;

            browser.sees("When a device comes that was never here before?").await;
            browser.press("Ask It waits until somebody decides here.").await;
            browser.sees("Use a tablet beside the television?").await;
            browser.press("Not now").await;
            browser.sees("Nothing stands in the way.").await;
            browser.press("Go on").await;

            browser.sees("No device has asked yet.").await;
            // Both come by themselves, by multicast; the page shows them without a reload.
            assert!(house.tell(TELEVISION, &["find"]).0);
            assert!(house.tell(DISC_PLAYER, &["find"]).0);
            browser.sees(&format!("Device at {TELEVISION}")).await;
            browser.sees(&format!("Device at {DISC_PLAYER}")).await;
            browser.press("Done").await;

            browser.sees("Two wait at the door").await;
            assert_eq!(
                house.stand_in(TELEVISION)["titles"][0],
                "Not let in yet: please ask the house"
            );
            let television = format!(
                "//article[contains(., 'Device at {TELEVISION}')]//button[normalize-space()='Admit']"
            );
            browser
                .page
                .find(thirtyfour::By::XPath(television))
                .await
                .unwrap()
                .click()
                .await
                .unwrap();
            browser.sees("One device is in, one waits at the door").await;

            // The list on the television changed by itself.
            mostra_tests::until(30, "the television's list", || {
                (house.stand_in(TELEVISION)["titles"][0] == "Video").then_some(())
            });
            assert!(house.tell(TELEVISION, &["list", "Video/All videos"]).0);
            let (played, said) = house.tell(TELEVISION, &["play", "Harbour at dawn"]);
            assert!(played, "{said}");
            let (skipped, said) = house.tell(TELEVISION, &["skip"]);
            assert!(skipped, "{said}");
            let (listed, _) = house.tell(DISC_PLAYER, &["list", "Pictures/All pictures"]);
            assert!(!listed, "the disc player got a list");

            browser.sees("skipped ahead Harbour at dawn").await;
            browser.close().await;
        });

        std::fs::write(house.data.path().join("password"), PASSWORD).unwrap();
        house.mostra(&[
            "login",
            "--password-file",
            house.data.path().join("password").to_str().unwrap(),
        ]);
        assert_eq!(house.confirmed(TELEVISION).len(), 6);
        let disc = house.confirmed(DISC_PLAYER);
        assert!(!disc.iter().any(|s| s == "listed" || s == "started"), "{disc:?}");
        let status = house.mostra(&["status"]);
        assert!(
            status.contains("Pellworth Light is on.") && status.contains("1 admitted, 1 waiting"),
            "{status}"
        );

        // Nothing that a device did leaves the house's proof when the service restarts.
        assert!(service.stop());
        let _again = house.start();
        assert_eq!(house.confirmed(TELEVISION).len(), 6);
        assert_eq!(raw::get(mostra_tests::SERVER, "/about/device.xml").unwrap().status, 200);
    });
}
