// SPDX-License-Identifier: GPL-3.0-or-later
//
// A program that is linked statically, so that no library can be loaded before it.
int main(void) { return 0; }
