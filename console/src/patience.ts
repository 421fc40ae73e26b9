/** Tests wait for what shall appear as long as a busy machine may need. */

import { configure } from "@testing-library/react";

configure({ asyncUtilTimeout: 60_000 });
