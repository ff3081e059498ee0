// Loaded before every test file: how long a test waits for the page. A busy machine is no fault of what is tested.
import { configure } from "@testing-library/react";

configure({ asyncUtilTimeout: 30_000 });
