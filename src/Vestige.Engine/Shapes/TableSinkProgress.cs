using Vestige.Engine.Ports;

namespace Vestige.Engine.Shapes;

/// <summary>The progress of crossings into a table sink, put together of what the sink keeps and what Vestige keeps.</summary>
internal sealed class TableSinkProgress(ITableSink sink, IProgressStore kept) : IProgressStore
{
    public async Task<TargetProgress> ReadProgressAsync(string crossing, CancellationToken cancellation) =>
        TableSinkSession.Together(
            await kept.ReadProgressAsync(crossing, cancellation),
            await sink.ReadTablesProgressAsync(crossing, cancellation)
        );

    public async Task<IProgressSession> OpenProgressAsync(string crossing, long term, CancellationToken cancellation)
    {
        var session = await kept.OpenProgressAsync(crossing, term, cancellation);
        try
        {
            return new TableSinkSession(session, await sink.OpenWriterAsync(crossing, term, cancellation));
        }
        catch
        {
            await session.DisposeAsync();
            throw;
        }
    }

    public async Task ForgetAsync(string crossing, CancellationToken cancellation)
    {
        await sink.ForgetTablesAsync(crossing, cancellation);
        await kept.ForgetAsync(crossing, cancellation);
    }
}
