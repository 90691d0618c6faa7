#!/usr/bin/env node
// The command line. It is a file of its own so that npm links it in a clone before anything is built.
import '../dist/cli.mjs';
