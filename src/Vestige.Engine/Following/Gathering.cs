namespace Vestige.Engine.Following;

/// <summary>The gathering of batches from one position of the spool on, one of them ahead. Given up, it leaves nothing behind.</summary>
internal sealed class Gathering(BatchGatherer gatherer, ChangeRouter router, CancellationToken ending) : IAsyncDisposable
{
    private readonly CancellationTokenSource giving = CancellationTokenSource.CreateLinkedTokenSource(ending);
    private Task<Batch?>? next;

    public BatchGatherer Gatherer => gatherer;

    public ChangeRouter Router => router;

    /// <summary>Gathers the next batch, if that is not going on already.</summary>
    public Task<Batch?> Next => next ??= gatherer.NextAsync(giving.Token);

    /// <summary>The batch that was gathered is in hand: the next is another.</summary>
    public void Taken() => next = null;

    public async ValueTask DisposeAsync()
    {
        giving.Cancel();
        if (next is not null)
        {
            await Task.WhenAny(next);
        }

        giving.Dispose();
    }
}
