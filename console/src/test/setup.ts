// A test ends when what it waits for is there; the limits only end one that waits for ever.
import { configure } from "@testing-library/react";

configure({ asyncUtilTimeout: 20_000 });
