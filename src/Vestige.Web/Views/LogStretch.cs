namespace Vestige.Web.Views;

/// <summary>A part of a lane: a stretch of the log, or the time in which something is done.</summary>
/// <param name="From">Where it begins, from 0 at the left to 1 at the right.</param>
/// <param name="To">Where it ends; not before <paramref name="From"/>.</param>
/// <param name="Kind">How it is drawn: <c>read</c>, <c>again</c>, <c>kept</c> or <c>follows</c>.</param>
/// <param name="Says">What it is, in a few words.</param>
public sealed record LogStretch(double From, double To, string Kind, string Says);
