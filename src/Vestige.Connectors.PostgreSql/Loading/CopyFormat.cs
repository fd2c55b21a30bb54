namespace Vestige.Connectors.PostgreSql.Loading;

/// <summary>The server's own forms of rows, as COPY gives and takes them (PostgreSQL manual, COPY, File Formats).</summary>
internal static class CopyFormat
{
    public const string Text = "postgresql-copy-text";

    /// <summary>Tuples only, without the header and the trailer of the file.</summary>
    public const string Binary = "postgresql-copy-binary";

    /// <summary>
    /// Types whose binary form means the same on every server of version 12 and later: no identifiers of objects, no
    /// dependence on a locale or on types that a database made for itself (pg_type.oid; from the manual's catalogue of types).
    /// </summary>
    public const string PlainTypes =
        "16,17,18,19,20,21,23,25,26,114,650,700,701,829,869,1042,1043,1082,1083,1114,1184,1186,1266,1560,1562,1700,2950,3802";

    private static readonly byte[] BinaryHeader = [.. "PGCOPY\n"u8, 0xFF, 13, 10, 0, 0, 0, 0, 0, 0, 0, 0, 0];

    /// <summary>What a binary copy begins with: the signature, no flags, no extension.</summary>
    public static ReadOnlyMemory<byte> Header => BinaryHeader;

    /// <summary>What it ends with: a tuple of minus one columns.</summary>
    public static ReadOnlyMemory<byte> Trailer { get; } = new byte[] { 0xFF, 0xFF };
}
