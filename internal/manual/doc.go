// Package manual writes manual pages in the macros of man(7): sentences begin lines, no line of the
// source is longer than 80 bytes, and a hyphen that is typed is a minus sign. It knows no commands; who
// has them says what stands in a page.
//
// Source: groff_man(7) and man(7); what a page consists of is man-pages(7).
package manual
