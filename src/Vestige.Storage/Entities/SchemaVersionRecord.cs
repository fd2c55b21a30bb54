namespace Vestige.Storage.Entities;

/// <summary>A version of a table of a source.</summary>
public sealed class SchemaVersionRecord
{
    /// <summary>In the order in which they were noticed.</summary>
    public long Id { get; set; }

    /// <summary>The connection.</summary>
    public required string Source { get; set; }

    /// <summary>As <see cref="Core.Schemas.TableName.ToText"/> writes it.</summary>
    public required string Table { get; set; }

    /// <summary>From 1 on within the table.</summary>
    public int Number { get; set; }

    /// <summary>The position from which it holds, as text.</summary>
    public required string From { get; set; }

    /// <summary>Which of several changes of the table at that position it is, from 0 on.</summary>
    public int Ordinal { get; set; }

    /// <summary>Up to here the version before is known to hold; null where it holds up to <see cref="From"/>.</summary>
    public string? NotBefore { get; set; }

    /// <summary>The server of the log of the positions.</summary>
    public required string Server { get; set; }

    /// <summary>The timeline of that log.</summary>
    public long Timeline { get; set; }

    /// <summary>The name of the certainty.</summary>
    public required string Certainty { get; set; }

    /// <summary>What was done; empty for a table that was found.</summary>
    public required string What { get; set; }

    /// <summary>JSON.</summary>
    public required string Changes { get; set; }

    /// <summary>The digest of the schema; empty where there is no table.</summary>
    public required string Digest { get; set; }

    /// <summary>The schema as JSON, compressed by Brotli (RFC 7932); null where there is no table.</summary>
    public byte[]? Schema { get; set; }

    /// <summary>Encrypted, since a statement may hold secrets; null where it is not known.</summary>
    public byte[]? Statement { get; set; }

    public long NoticedTicks { get; set; }
}
