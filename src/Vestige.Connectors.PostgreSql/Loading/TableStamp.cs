using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using Npgsql;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Loading;

/// <summary>What is remembered of a table in a snapshot.</summary>
/// <param name="File">The number of its file, which changes when it is written again as a whole or emptied.</param>
/// <param name="OldestOpen">The oldest transaction not ended at the snapshot, in 64 bits: whatever an older one wrote was there.</param>
/// <param name="Newest">The first transaction not begun at the snapshot, in 64 bits.</param>
/// <param name="Structure">A digest of its columns and structure.</param>
internal sealed record TableStamp(long File, long OldestOpen, long Newest, string Structure)
{
    /// <summary>Ranges of blocks can be read by themselves from version 14 on (release notes of 14).</summary>
    public const int TidRangeVersion = 140000;

    /// <summary>Beyond this age the 32 bits that a row keeps no longer tell before from after; a safe distance below 2^31.</summary>
    private const long MaximalAge = 2_000_000_000;

    /// <summary>Reads it in the snapshot's own transaction; null for what has no file of its own, and for servers before 14.</summary>
    public static async Task<TableStamp?> ReadAsync(NpgsqlConnection connection, TableSchema table, CancellationToken cancellation)
    {
        const string Sql = """
            SELECT pg_relation_filenode(oid)::int8, pg_snapshot_xmin(pg_current_snapshot())::text::int8,
                pg_snapshot_xmax(pg_current_snapshot())::text::int8
            FROM pg_class WHERE oid = to_regclass($1) AND relkind = 'r'
            """;
        if (connection.PostgreSqlVersion.Major * 10_000 < TidRangeVersion)
        {
            return null;
        }

        await using var command = new NpgsqlCommand(Sql, connection);
        command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(table.Name)));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        return await reader.ReadAsync(cancellation)
            ? new TableStamp(reader.GetInt64(0), reader.GetInt64(1), reader.GetInt64(2), FormOf(table))
            : null;
    }

    /// <summary>Reads what <see cref="ToString"/> wrote; null for anything else.</summary>
    public static TableStamp? Parse(string? text)
    {
        var fields = text?.Split(' ') ?? [];
        return
            fields.Length == 4
            && long.TryParse(fields[0], CultureInfo.InvariantCulture, out var file)
            && long.TryParse(fields[1], CultureInfo.InvariantCulture, out var oldest)
            && long.TryParse(fields[2], CultureInfo.InvariantCulture, out var newest)
            ? new TableStamp(file, oldest, newest, fields[3])
            : null;
    }

    /// <summary>Whether rows loaded when it was <paramref name="then"/> can be told from those written since.</summary>
    public bool GoesOnFrom(TableStamp then) =>
        File == then.File && Structure == then.Structure && Newest >= then.Newest && Newest - then.OldestOpen < MaximalAge;

    public override string ToString() => string.Create(CultureInfo.InvariantCulture, $"{File} {OldestOpen} {Newest} {Structure}");

    private static string FormOf(TableSchema table)
    {
        var form = new StringBuilder();
        foreach (var column in table.Columns)
        {
            form.Append(CultureInfo.InvariantCulture, $"{column.Name}\0{column.Type}\0{column.Nullable}\0{column.KeyOrdinal}\0");
        }

        foreach (var part in table.Objects.Where(part => part.Stage is SchemaStage.Table or SchemaStage.PrimaryKey))
        {
            form.Append(part.Statement).Append('\0');
        }

        return Convert.ToHexString(SHA256.HashData(Encoding.UTF8.GetBytes(form.ToString())));
    }
}
