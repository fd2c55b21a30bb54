namespace Vestige.Engine.Ports;

/// <summary>The files of one spool. Creating and deleting are durable when they return.</summary>
public interface ISpoolFiles
{
    /// <summary>The numbers of the files there are, ascending.</summary>
    Task<IReadOnlyList<long>> ListAsync(CancellationToken cancellation);

    /// <summary>Opens a file, creating it when it is not there.</summary>
    Task<ISpoolFile> OpenAsync(long number, CancellationToken cancellation);

    /// <summary>Deletes a closed file; nothing happens when it is not there.</summary>
    Task DeleteAsync(long number, CancellationToken cancellation);
}
