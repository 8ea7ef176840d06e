/* libharmonic: tidal heights as a sum of harmonic constituents.
 * SPDX-License-Identifier: MIT */
#ifndef HARMONIC_H
#define HARMONIC_H

#include <stddef.h>

#ifdef __cplusplus
extern "C" {
#endif

/* One constituent of the tide: height = amplitude * cos(speed * t - phase). */
struct harmonic_constituent {
	double amplitude; /* metres */
	double speed;     /* degrees an hour */
	double phase;     /* degrees */
};

/* The height of the tide in metres, hours after the epoch of the phases. */
double harmonic_height(double mean, const struct harmonic_constituent *c, size_t n, double hours);

/* Finds the next high water after hours, to the minute. */
double harmonic_next_high(double mean, const struct harmonic_constituent *c, size_t n, double hours);

const char *harmonic_version(void);

#ifdef __cplusplus
}
#endif
#endif
