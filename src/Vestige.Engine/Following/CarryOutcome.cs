using Vestige.Core.SchemaVersions;

namespace Vestige.Engine.Following;

/// <summary>What becomes of a table whose schema was changed at the source.</summary>
/// <param name="Fingerprint">Of what the crossing has from there on; null where the table is held.</param>
/// <param name="Why">Why it is held, as a sentence; null or empty where that goes without saying.</param>
/// <param name="Agreeable">What is done to the target's table once a person agrees; null where that does not help.</param>
internal readonly record struct CarryOutcome(string? Fingerprint, string? Why, SchemaEdit? Agreeable);
