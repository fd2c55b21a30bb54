using Vestige.Core.Treatments;

namespace Vestige.Engine.Tests.Doubles;

/// <summary>Keys that are the same in every run.</summary>
public sealed class PlainKeys : IMaskKeys
{
    public byte[] Of(string name) => System.Text.Encoding.UTF8.GetBytes(name.PadRight(32));
}
