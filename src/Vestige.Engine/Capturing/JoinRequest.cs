using Vestige.Core.Joining;
using Vestige.Engine.Faults;

namespace Vestige.Engine.Capturing;

/// <summary>A join that someone waits to have taken. Decided by the capture, looked at when it says that something turned.</summary>
internal sealed class JoinRequest(JoinPoint join)
{
    private volatile bool isDecided;

    public JoinPoint Join => join;

    /// <summary>Whether it was taken or refused.</summary>
    public bool IsDecided => isDecided;

    /// <summary>Why it was refused; null when it was taken, and until it is decided.</summary>
    public RequestRefusedException? Refusal { get; private set; }

    public void Decide(RequestRefusedException? refusal)
    {
        Refusal = refusal;
        isDecided = true;
    }
}
