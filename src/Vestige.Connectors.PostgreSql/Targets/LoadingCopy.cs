using System.Buffers;
using Npgsql;
using Vestige.Connectors.PostgreSql.Loading;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// A copy into one table, or into the staging table from which it is merged, that stays open over several blocks of rows.
/// </summary>
internal sealed class LoadingCopy
{
    private readonly Stream stream;
    private readonly IAsyncDisposable copy;
    private readonly string? form;
    private ArrayBufferWriter<byte>? written;

    private LoadingCopy(TableSchema table, Staging? staging, string? form, Stream stream, IAsyncDisposable copy)
    {
        Table = table;
        Staging = staging;
        this.form = form;
        this.stream = stream;
        this.copy = copy;
    }

    public TableSchema Table { get; }

    /// <summary>Where the rows go first, when they are merged; null when they go straight into the table.</summary>
    public Staging? Staging { get; }

    public static async Task<LoadingCopy> BeginAsync(
        NpgsqlConnection connection,
        TableSchema table,
        Staging? staging,
        string? form,
        CancellationToken cancellation
    )
    {
        var statement =
            $"COPY {staging?.Name ?? Quote.Name(table.Name)} ({Quote.Names(table.Columns.Select(column => column.Name))}) FROM STDIN";
        if (form == CopyFormat.Binary)
        {
            var binary = await connection.BeginRawBinaryCopyAsync($"{statement} (FORMAT binary)", cancellation);
            await binary.WriteAsync(CopyFormat.Header, cancellation);
            return new LoadingCopy(table, staging, form, binary, binary);
        }

        var text = (StreamWriter)await connection.BeginTextImportAsync(statement, cancellation);
        return new LoadingCopy(table, staging, form, text.BaseStream, text);
    }

    public bool Takes(TableSchema table, bool merging, string? rows) =>
        ReferenceEquals(table, Table) && merging == Staging is not null && rows == form;

    /// <summary>Rows in the server's own form pass as they are; those in the common one are written as text.</summary>
    public ValueTask WriteAsync(ReadOnlyMemory<byte> rows, CancellationToken cancellation)
    {
        if (form is not null)
        {
            return stream.WriteAsync(rows, cancellation);
        }

        written ??= new ArrayBufferWriter<byte>(1 << 16);
        written.ResetWrittenCount();
        var reader = new ChangeReader(rows);
        while (reader.TryRead(out var change))
        {
            CopyText.Write(written, change.After);
        }

        return stream.WriteAsync(written.WrittenMemory, cancellation);
    }

    public async Task EndAsync(CancellationToken cancellation)
    {
        if (form == CopyFormat.Binary)
        {
            await stream.WriteAsync(CopyFormat.Trailer, cancellation);
        }

        await copy.DisposeAsync();
    }

    /// <summary>Ends it without its rows: the transaction is rolled back.</summary>
    public async ValueTask GiveUpAsync()
    {
        try
        {
            await ((NpgsqlRawCopyStream)stream).CancelAsync();
        }
        catch (PostgresException exception) when (exception.SqlState == "57014")
        {
            // The server says that the copy was given up, which is what was asked.
        }
    }
}
