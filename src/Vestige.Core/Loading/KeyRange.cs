using Vestige.Core.Changes;

namespace Vestige.Core.Loading;

/// <summary>
/// A range of keys in the source engine's own order: after one key, up to and with another. The rows hold the key columns
/// only, in key order; none means open.
/// </summary>
public readonly record struct KeyRange(Row After, Row UpTo);
