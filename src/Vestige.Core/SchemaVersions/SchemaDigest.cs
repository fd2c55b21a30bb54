using System.Security.Cryptography;
using System.Text.Json;
using Vestige.Core.Schemas;

namespace Vestige.Core.SchemaVersions;

/// <summary>
/// A short text that is another for every other schema, for a table that was dropped and created again, and for one whose rows may have
/// been rewritten.
/// </summary>
public static class SchemaDigest
{
    /// <summary>32 hexadecimal digits of SHA-256 over the schema as JSON; empty where there is no table.</summary>
    public static string Of(TableSchema? schema) =>
        schema is null
            ? ""
            : Convert.ToHexStringLower(
                SHA256.HashData(JsonSerializer.SerializeToUtf8Bytes(schema with { Statement = null, Generation = 0 }))
            )[..32];
}
