namespace Vestige.Engine.Ports;

/// <summary>Finds the systems behind connection names. Safe for several threads.</summary>
public interface IConnections
{
    /// <summary>Throws <see cref="Faults.RequestRefusedException"/> when there is no such connection.</summary>
    SourceSystem Source(string connection);

    /// <summary>Throws <see cref="Faults.RequestRefusedException"/> when there is no such connection.</summary>
    TargetSystem Target(string connection);

    /// <summary>The files of the spool of a source connection.</summary>
    ISpoolFiles SpoolOf(string connection);
}
