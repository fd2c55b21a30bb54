using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// The temporary table through which a batch's rows of one table pass: the same columns and types, without its rules, and
/// one column that says what is to be done with the row.
/// </summary>
/// <param name="Name">Quoted, in the session's temporary schema.</param>
/// <param name="Schema">The form it was made for.</param>
internal sealed record Staging(string Name, TableSchema Schema)
{
    public const string What = "vestige_what";

    public static Staging For(TableSchema form, int number) => new($"pg_temp.{Quote.Name($"vestige_{number}")}", form);

    public string Create =>
        $"CREATE TEMPORARY TABLE {Name[8..]} ON COMMIT DELETE ROWS AS SELECT 0::int4 AS {What}, "
        + $"{Quote.Names(Schema.Columns.Select(column => column.Name))} FROM {Quote.Name(Schema.Name)} WITH NO DATA";

    public string Copy => $"COPY {Name} ({What}, {Quote.Names(Schema.Columns.Select(column => column.Name))}) FROM STDIN";
}
