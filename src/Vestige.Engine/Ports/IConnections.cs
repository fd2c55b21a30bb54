namespace Vestige.Engine.Ports;

/// <summary>Finds the systems behind connection names.</summary>
public interface IConnections
{
    /// <summary>Throws <see cref="Faults.RequestRefusedException"/> when there is no such connection or it cannot be a source.</summary>
    ISource Source(string connection);

    /// <summary>Throws <see cref="Faults.RequestRefusedException"/> when there is no such connection or it cannot be a target.</summary>
    ITarget Target(string connection);

    /// <summary>The files of the spool of a source connection.</summary>
    ISpoolFiles SpoolOf(string connection);
}
