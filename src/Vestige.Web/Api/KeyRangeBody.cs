namespace Vestige.Web.Api;

/// <summary>Keys of whole numbers; those of several columns are divided by commas.</summary>
/// <param name="From">The first; null from the first row on.</param>
/// <param name="Before">The one before which it ends; null to the last row.</param>
public sealed record KeyRangeBody(string? From = null, string? Before = null);
